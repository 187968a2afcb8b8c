"""Reading and writing marks: marker lists, tables of ranges, chapters, into one small model."""
