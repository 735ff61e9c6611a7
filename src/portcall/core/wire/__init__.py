"""One module for each protocol: bytes to values and back, nothing else.

The names are ``parse…`` and ``encode…``; ``whole_length`` and ``is_answer`` cut a stream into
messages and tell to which request a reply belongs.
"""
