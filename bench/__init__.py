"""Benchmarks, run by hand with `make bench`: ratios within one run, never timed tests."""
