"""The documentation as a site: its theme, its pictures, and how it is built."""
