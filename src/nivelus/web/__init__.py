"""The web interface: the application factory, one module of routes per resource, errors and security in one place each."""
