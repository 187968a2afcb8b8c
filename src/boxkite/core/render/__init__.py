"""From a planned row to a verified file: decoded, changed, encoded, read again. Its face is the module `making`."""
