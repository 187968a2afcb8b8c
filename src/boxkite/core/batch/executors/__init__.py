"""Who makes the shots of a batch: processes of this machine, or the workers of a dask.distributed cluster."""
