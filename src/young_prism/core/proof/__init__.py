"""Proof: candidates of one original next to each other, with measured bytes and score, and what to make of them."""
