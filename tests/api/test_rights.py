"""The table of what each role may do says what the operations say."""

from pathlib import Path

from plumcrate.api import rights

PAGE = Path(__file__).parents[2] / "docs/people.md"


def test_the_documents_table_is_that_of_the_code() -> None:
    told = PAGE.read_text().partition("<!-- rights -->\n")[2].partition("<!-- end of rights -->")[0]
    assert told == rights.table(), "write it anew: python -m plumcrate.api.rights"


def test_it_knows_every_kind() -> None:
    lines = {line.split(" | ")[0].strip("| "): line for line in rights.table().splitlines()}
    assert lines["List libraries"].endswith("| look | ● | ● | ● | ● | ● |")
    assert lines["Upload a picture"].endswith("| upload | – | ● | ● | ● | ● |")
    assert lines["Start a survey"].endswith("| treat | – | – | ● | ● | ● |")
    assert lines["Delete backups"].endswith("| administer | – | – | – | ● | ● |")
    assert lines["List people"].endswith("| service | – | – | – | – | ● |")
    assert lines["Change my password"].endswith("| people only | ● | ● | ● | ● | ● |")
    assert lines["Health"].endswith("| open | ● | ● | ● | ● | ● |")
