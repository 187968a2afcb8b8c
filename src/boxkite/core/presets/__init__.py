"""The recipes: what a file handed over is made of. The model, the built-in ones, the user's own."""
