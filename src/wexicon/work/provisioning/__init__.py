"""Writing the settings of a sheet to one module and proving them."""
