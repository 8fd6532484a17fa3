"""What the API takes and gives, a module a router. The browser's types are generated from these."""
