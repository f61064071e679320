"""The pass: reading is a step; reduction, balance, rows set aside, findings, customers."""
