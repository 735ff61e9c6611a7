"""Is it reachable: echo requests and what their times say."""
