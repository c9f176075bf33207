"""The view Driver: the sources, each channel live, what is patched to what, and what remotes say."""
