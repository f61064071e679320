"""Engines: each runs one SQL tree and hands back a table."""
