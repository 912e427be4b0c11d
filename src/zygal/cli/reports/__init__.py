"""The report of each command: a plain function from its outcome to text on a console of any width."""
