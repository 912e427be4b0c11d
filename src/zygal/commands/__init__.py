"""What a command is asked, does and finds: a frozen request with its options, `execute(request, listener)`, an Outcome.

Nothing here knows a terminal. Heavy imports are inside the functions, because a user interface imports the requests.
"""
