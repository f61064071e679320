"""Engines: each runs SQL trees and returns tables."""
