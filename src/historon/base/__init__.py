"""Small things without a home elsewhere: errors, instants, sizes, disks, threads, workers, TLS."""
