"""How much a candidate looks like its original, and the search for the smallest file that looks enough like it."""

from young_prism.core.score.metric import Reference, ssimulacra2

__all__ = ["Reference", "ssimulacra2"]
