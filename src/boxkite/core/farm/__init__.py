"""Many machines: the shots of a plan made by the workers of a dask.distributed scheduler, the journal kept here."""
