"""The implementation of the score's planes that is in use: compiled, where the package was installed with a C compiler."""

from __future__ import annotations

from young_prism.core.score import portable
from young_prism.core.score.planes import Implementation

try:
    from young_prism.core.score import compiled
except ImportError:
    IS_COMPILED = False
    implementation: Implementation = portable
else:
    IS_COMPILED = True
    implementation = compiled
