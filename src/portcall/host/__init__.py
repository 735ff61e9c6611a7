"""The network of this computer: a face for each thing it gives, and the runner.

Each face takes what it shows from the folder of this operating system; nobody else knows which that
is.
"""
