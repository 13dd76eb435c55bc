"""Names of columns: how they are matched, where they stand in a sheet, which row has them."""
