"""Runs: queue, states, recorder and figures."""
