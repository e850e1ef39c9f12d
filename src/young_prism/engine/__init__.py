"""Makes a plan real: scanning, the pool, the ledger of what is ours, atomic publishing, progress.

Knows files and processes, not HTTP and not the database. Doors pass a callback and get events.
"""
