"""Proof: candidates of one original beside each other, with measured bytes and score, and what to make of them."""
