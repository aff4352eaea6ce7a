"""Where rows come from: one module per format, each giving batches and naming rows as a person counts them."""
