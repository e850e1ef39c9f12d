"""A site's pages in headless Chromium: measured, and compared before and after a rewriting."""
