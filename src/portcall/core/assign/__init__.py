"""Giving planned devices their addresses over BOOTP and DHCP, and asking for one."""
