"""Worker processes: the protocol, the local pool, the Dask cluster, and the functions that run in them."""
