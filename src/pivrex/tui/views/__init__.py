"""The views, one for each cell of the line that can be opened."""
