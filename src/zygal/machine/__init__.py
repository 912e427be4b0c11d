"""What this machine and its user offer: processor, threads, libraries, back ends, own code and state."""
