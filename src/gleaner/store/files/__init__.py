"""Files of the store: artefacts by their digest, and what they hold."""
