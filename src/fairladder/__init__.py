"""From a table of orders to scored, segmented customers."""
