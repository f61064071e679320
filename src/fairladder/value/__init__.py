"""Lifetime value: to date, by formula, and forecast from models of ordering and spend that are
tested on past data.
"""
