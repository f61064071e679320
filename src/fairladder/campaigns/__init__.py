"""Campaigns: whom to contact and why, the holdout, and the measured lift."""
