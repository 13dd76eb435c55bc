"""The demo: a beekeepers' co-operative, its database and this week's workbook. All of it is made up."""
