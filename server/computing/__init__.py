"""Heavy answers are made apart from the web's threads: in a few child processes, each of which can
answer any request of the API. Django stays in the web process only for what is light.

``lanes`` says what is heavy, ``pool`` shares the children among people, ``child`` is what runs in
them, ``away`` the middleware that hands requests over, and ``wanted`` what the work itself asks.
"""
