"""The operating system: one module for each thing it gives, and the runner."""
