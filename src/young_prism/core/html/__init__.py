"""HTML and CSS of a site: the images they refer to, and how to rewrite those references."""
