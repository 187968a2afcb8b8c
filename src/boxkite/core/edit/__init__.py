"""Reading and writing timelines and marks: edit lists, OTIO, tables, chapters, into one small model."""
