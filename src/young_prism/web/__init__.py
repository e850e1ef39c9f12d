"""HTTP: routes, forms, templates and scripts of the pages and the API."""

from young_prism.engine.workers.environment import configure_codecs

configure_codecs()  # before the views are imported: some of them decode small images in this process
