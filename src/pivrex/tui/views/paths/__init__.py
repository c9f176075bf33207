"""A path on the field: drawn, changed by hand, and tried on the stand-in."""
