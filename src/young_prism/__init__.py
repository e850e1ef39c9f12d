"""Young Prism: folders of site images into modern formats, responsive widths, fallbacks and markup."""

__version__ = "0.1.0"
