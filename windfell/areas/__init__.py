"""Areas painted: from what a recipe says of where something holds to a mask for any region at any scale."""
