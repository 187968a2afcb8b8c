"""What is to be known beside what was asked for: each kind of notice declared once, with its sentence."""
