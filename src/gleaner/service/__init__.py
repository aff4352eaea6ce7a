"""The web service: one router per noun, thin; what they call stands beside them."""
