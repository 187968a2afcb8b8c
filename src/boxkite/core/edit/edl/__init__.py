"""Edit decision lists (CMX 3600 and its usual extensions): their markers, their events, and writing them."""
