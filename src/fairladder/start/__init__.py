"""The first scheme for an export, written and tried."""
