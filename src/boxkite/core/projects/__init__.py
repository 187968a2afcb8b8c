"""Work on a whole project: its media trimmed to what an edit uses, its sources renamed and back again."""
