"""The output folder: ledger, journal, cache, lock, and atomic writes."""
