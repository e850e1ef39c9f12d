"""The documentation against the product."""
