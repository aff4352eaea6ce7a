"""The command line: thin commands over the client. One file per noun."""
