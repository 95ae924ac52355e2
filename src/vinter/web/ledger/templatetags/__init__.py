"""Tags of the ledger."""
