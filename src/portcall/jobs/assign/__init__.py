"""An assignment: serving, following the plan as it is edited, keeping as devices answer."""
