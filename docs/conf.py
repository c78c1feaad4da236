"""How the handbook is built: Sphinx with MyST for Markdown; see scripts/docs.py."""

project = "Varlen"
author = "the makers of Varlen"
extensions = ["myst_parser", "sphinx.ext.autodoc"]
myst_enable_extensions = ["attrs_inline"]
myst_heading_anchors = 3
html_theme = "furo"
html_title = "Varlen handbook"
html_static_path: list[str] = []
html_show_sphinx = False
html_copy_source = False
html_theme_options = {"navigation_with_keys": True}
default_role = "literal"
autodoc_typehints = "none"  # docstrings say shapes and types in words
autodoc_member_order = "bysource"
python_use_unqualified_type_names = True
suppress_warnings = ["myst.xref_missing", "myst.header", "misc.highlighting_failure"]
html_show_copyright = False
