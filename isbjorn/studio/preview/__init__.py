"""Pictures of a shot as they are looked at, and the processes that draw them."""
