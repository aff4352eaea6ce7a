"""Where rows come from: one module per format, each giving batches of columns and naming rows as a person counts them."""
