"""What the JSON result of each command holds, as types; the schemas in docs/schemas are made of them."""
