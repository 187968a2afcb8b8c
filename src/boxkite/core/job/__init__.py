"""What is asked for: the words of a job, on the command line or in a file, and the choice among shots."""
