"""One original and its part of the plan -> renditions, as bytes and facts."""
