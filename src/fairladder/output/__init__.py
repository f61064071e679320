"""The one door out: tables to files, whole or not at all."""
