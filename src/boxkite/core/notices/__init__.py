"""Notices: each kind declared once, with its sentence."""
