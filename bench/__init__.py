"""Speed and size, measured side by side with well-known programs in one run: `make bench`."""
