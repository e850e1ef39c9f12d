"""How the images of a site are really laid out: what a browser measured, and what follows from it."""
