"""Ways to a source: a module for each, behind `interface`; and what several of them share."""
