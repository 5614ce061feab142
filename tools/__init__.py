"""Programs for those who work on Historon: pictures, the page of commands, a sample letter."""
