"""What is drawn, said once: the screen's cells, its pixels and paper print the same scenes."""
