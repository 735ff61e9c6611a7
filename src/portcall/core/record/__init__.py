"""What was seen and done at a site, as entries that outlive the day; and what they come to."""
