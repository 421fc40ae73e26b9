"""A Django site whose media folder is a library of a Plum Crate service."""
