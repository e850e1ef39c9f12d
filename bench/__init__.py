"""Benchmarks, run by hand with `make bench`: ratios within one run, never timed tests."""

from young_prism.engine.workers.environment import configure_worker

configure_worker()  # benchmarks call the core in this process
