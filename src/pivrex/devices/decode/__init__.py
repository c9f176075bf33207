"""What remotes say: bytes to readings. A file for each kind of source."""
