"""Which widths an original gets."""
