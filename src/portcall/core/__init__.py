"""The job as pure computation: no sockets, files, clock, randomness, Click or Rich."""
