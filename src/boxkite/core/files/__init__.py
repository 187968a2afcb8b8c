"""Files on disk: reading with bounds, safe writing, names that are owned while they are made, identity."""
