"""What each command is asked, does and finds: a frozen request that declares its options, and `execute(request,
listener)`, which gives an `Outcome`."""
