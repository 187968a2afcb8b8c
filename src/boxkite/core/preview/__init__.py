"""Pictures of a plan before it is run: stills, strips of cuts, charts."""
