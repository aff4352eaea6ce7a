"""One router per noun. A route parses, calls one function and shapes the reply."""
