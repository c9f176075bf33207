"""What people touch: drawing and keys, no computation."""
