"""Sums and figures as people read them."""
