"""Checks of a source and its build: flags on originals, budgets of pages."""
