"""Transports: serial lines, UDP and TCP ports that open by themselves, again and again, and never wait."""
