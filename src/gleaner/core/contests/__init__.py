"""The engine that compares models: plan, parts, fits, judgements, comparison, choice, guard."""
