"""Draws the demo source: "Ottermoor Hill Railway", an invented funicular with its site.

Everything comes from code and fixed seeds. No real place, person, brand or photograph.
"""
