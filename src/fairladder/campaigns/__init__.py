"""Campaigns: who is contacted and why, the holdout, and what it brought."""
