"""Where to cut: marks laid on their sources, and the shots that come of them."""
