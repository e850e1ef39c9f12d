"""Tokens: who may do what."""
