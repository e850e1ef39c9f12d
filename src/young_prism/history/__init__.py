"""Runs on record, whichever door started them: the engine's events go into the store, and come out as reports.

Used by the pages and by the command; the engine and the store do not know each other.
"""
