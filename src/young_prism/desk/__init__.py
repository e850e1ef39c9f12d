"""The life of a picture that comes by itself, through the page Desk or the API: it comes, is made, changed, replaced, withdrawn.

Knows store, engine and serving, and neither pages nor requests: both doors use it.
"""
