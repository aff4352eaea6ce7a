"""The API's messages: the one vocabulary that service, client and command line share. Imports nothing of ours."""
