"""What comes out of the store: one frozen class per record. Documents that a row keeps as JSON come out as they are
declared in `wire`."""
