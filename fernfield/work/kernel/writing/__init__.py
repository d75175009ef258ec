"""How an edit becomes a revision: drafts, sweeps, the ledger, and undo."""
