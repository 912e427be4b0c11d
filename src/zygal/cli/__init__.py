"""The command line: the only place that knows arguments, the terminal and exit codes."""
