"""In the place of scikit-learn, for processes that are started as an installation starts them: there it is missing, and
LightGBM would load it, two seconds, only because it is there."""

raise ImportError("there is no scikit-learn among what a service is installed with")
