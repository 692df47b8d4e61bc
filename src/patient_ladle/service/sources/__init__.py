"""Sources, environments and the addresses that join them."""
