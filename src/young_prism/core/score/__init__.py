"""How much a candidate looks like its original, and the search for the smallest file that looks enough like it."""
