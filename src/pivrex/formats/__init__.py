"""What runs and recordings look like on disk: read, written, played onto the rate."""
