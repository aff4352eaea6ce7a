"""In the place of pandas, for processes that are started as an installation starts them: there it is missing, and PyArrow
would load it, a third of a second, only because it could be asked about it."""

raise ImportError("there is no pandas among what a service is installed with")
