"""The stop Proof: the page with its candidates, others at the same setting, and a test of the eye."""

from young_prism.web.proof import eye, others, selected
from young_prism.web.proof.page import blueprint

__all__ = ["blueprint", "eye", "others", "selected"]
