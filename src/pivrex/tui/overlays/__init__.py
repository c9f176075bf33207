"""What lies over a view for a moment: lists, help, the palette, a value that is typed."""
