"""Pages and stylesheets rewritten to use renditions; every byte outside what is changed stays as it was."""
