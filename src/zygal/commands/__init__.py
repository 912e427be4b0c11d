"""One file per command: a frozen request with all defaults, and `execute(request, listener) -> Outcome`.

Nothing here knows a terminal. Heavy imports are inside the functions, because a user interface imports the requests.
"""
