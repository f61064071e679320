"""History of customers and orders: order ledger, growth, cohorts, order counts, breakdowns."""
