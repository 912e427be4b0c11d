"""Symbol and parameter files of Apache MXNet, which is retired: read without it."""
