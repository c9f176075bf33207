"""Drawings and tables for the notebook: SVG, PDF and CSV."""
