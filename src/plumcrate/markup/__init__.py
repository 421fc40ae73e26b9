"""Pages that say the right markup: HTML rewritten for the lightest pictures, everything else as it was.

Pure: text and facts in, text out. Positions come from a tokenizer that follows the HTML standard, and edits
are insertions at those positions; no tree is written anew.
"""

from .page import rewrite
from .rewriter import Lookup, Rewriter, RewriteTally

__all__ = ["Lookup", "RewriteTally", "Rewriter", "rewrite"]
