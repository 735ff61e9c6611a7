"""The pictures, tables and documents that commands print."""
