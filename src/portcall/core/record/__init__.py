"""Everything seen and done at a site, as entries that outlive the day; and conclusions from it."""
