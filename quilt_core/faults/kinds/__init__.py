"""One module for each kind of fault. Its docstring is the definition; `found` counts it and says it in words. A new module here is a new fault."""
