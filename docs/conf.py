"""How the documents become a site: Sphinx, with Markdown by MyST. Nothing is fetched, to build it or to read it."""

project = "Tidy Merge"
extensions = ["myst_parser"]
exclude_patterns = ["examples"]
html_theme = "furo"
html_title = "Tidy Merge"
html_show_copyright = False
html_copy_source = False
templates_path: list[str] = []
myst_heading_anchors = 3  # links to headings are checked, too
suppress_warnings = ["misc.highlighting_failure"]  # examples with three dots in place of what does not matter
