"""HTML and SVG that need no server: drawings, run report, proof sheet."""
