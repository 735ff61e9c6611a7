"""The drawing of a site: what hangs where, and what is planned; and how it is laid out on paper."""
