"""Drawings: pure functions from data and size to pictures, tested without an application."""
