"""What is drawn of a plan before it is run: stills, contact strips and charts."""
