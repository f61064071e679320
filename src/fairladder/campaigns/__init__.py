"""Campaigns: which customers to contact and why, the holdout, and the measured lift."""
