"""A page of HTML to look at layers: what it carries (Python) and what it does (`script/`)."""
