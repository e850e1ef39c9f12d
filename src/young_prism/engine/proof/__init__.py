"""Proofs: encode and measure candidates in worker processes."""
