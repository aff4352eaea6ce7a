"""One file per family, one small protocol, one registry."""
