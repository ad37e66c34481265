"""Addresses, names and text: what is one, when two are the same, what may be shown."""

from __future__ import annotations

import pytest
from email_validator import validate_email
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core import addresses, names, text
from barnacle.core.errors import BadAddressError, UnclearError
from barnacle.core.matching import naming


@pytest.mark.parametrize(
    ("wrong", "sentence"),
    [
        ("tomas@post", "`tomas@post` is not an address: there is no ending such as .example after `post`."),
        ("tomas.post.example", "`tomas.post.example` is not an address: it has no @."),
        ("tomas@", "`tomas@` is not an address: there is nothing after the @."),
        ("@post.example", "`@post.example` is not an address: there is nothing before the @."),
        ("a@b@post.example", "`a@b@post.example` is not an address: it has more than one @."),
        ("a b@post.example", "`a b@post.example` is not an address: it has a space in it."),
        ("a..b@post.example", "`a..b@post.example` is not an address: it has two dots in a row."),
        (
            ".a@post.example",
            "`.a@post.example` is not an address: there is a dot at the edge of the part before the @.",
        ),
        (
            "a@post.example.",
            "`a@post.example.` is not an address: there is a dot at the edge of the domain `post.example.`.",
        ),
        ("", "`` is not an address: it is empty."),
        (
            "a\r\nBcc:b@post.example",
            "`a��Bcc:b@post.example` is not an address: it holds a character that cannot be shown.",
        ),
        ("a\u202e@post.example", "`a�@post.example` is not an address: it holds a character that cannot be shown."),
    ],
)
def test_a_broken_address_is_told_in_plain_words(wrong: str, sentence: str) -> None:
    with pytest.raises(BadAddressError) as caught:
        addresses.check_address(wrong)
    assert str(caught.value) == sentence


@pytest.mark.parametrize(
    "bad",
    [
        "a@-x.example",
        "a@x_y.example",
        "a@ab--c.example",
        "a" * 65 + "@x.example",
        "a@" + "x" * 250 + ".example",
        "a@[1.2.3",
        'a"b@x.example',
        "a,b@x.example",
    ],
)
def test_what_the_standard_forbids_is_refused(bad: str) -> None:
    with pytest.raises(BadAddressError):
        addresses.check_address(bad)


ATOM = st.text("abcXYZ019.-_+'=/", min_size=1, max_size=12)
LABEL = st.text("abZ09-", min_size=1, max_size=8)


@given(ATOM, st.lists(LABEL, min_size=1, max_size=4), st.sampled_from(["example", "test", "x1", "1x", "a", "local"]))
def test_the_fast_path_agrees_with_the_library(local: str, labels: list[str], last: str) -> None:
    address = f"{local}@{'.'.join([*labels, last])}"
    try:
        mine: str | None = addresses.check_address(address)
    except BadAddressError:
        mine = None
    try:
        theirs: str | None = validate_email(
            address, check_deliverability=False, globally_deliverable=False, test_environment=True
        ).normalized
    except ValueError:
        theirs = None
    assert mine == theirs


def test_an_address_is_known_again_in_other_capitals_and_scripts() -> None:
    same = {addresses.address_key(a) for a in ("Ada@Bücher.example", "ada@BÜCHER.example", "ada@xn--bcher-kva.example")}
    assert len(same) == 1
    apart = ("gross@kelp.example", "groß@kelp.example", "a@größe.example", "a@groesse.example", "a@grösse.example")
    assert len({addresses.address_key(a) for a in apart}) == len(apart), "nobody's mail goes to somebody else"
    assert addresses.envelope_address("ada@bücher.example") == "ada@xn--bcher-kva.example"


@pytest.mark.parametrize(
    ("cell", "pieces"),
    [
        ("a@x.example", ["a@x.example"]),
        ("a@x.example; b@x.example", ["a@x.example", "b@x.example"]),
        ("a@x.example,b@x.example\nc@x.example", ["a@x.example", "b@x.example", "c@x.example"]),
        ("a@x.example / b@x.example", ["a@x.example", "b@x.example"]),
        ("a@x.example/b@x.example", ["a@x.example", "b@x.example"]),
        ("a/b@x.example", ["a/b@x.example"]),
        ("a@x.example and b@x.example", ["a@x.example", "b@x.example"]),
        ("a@x.example b@x.example", ["a@x.example", "b@x.example"]),
        ("mailto:a@x.example", ["a@x.example"]),
        ("ada at x.example", ["ada at x.example"]),
        ("Ada Brine <a@x.example>, Bo <b@x.example>", ["Ada Brine <a@x.example>", "Bo <b@x.example>"]),
    ],
)
def test_several_addresses_in_a_cell_are_taken_apart(cell: str, pieces: list[str]) -> None:
    assert addresses.split_cell(cell) == pieces


@pytest.mark.parametrize(
    ("written", "name"),
    [
        ("'Bo Lind' <b@x.example>", "Bo Lind"),
        ("“Bo Lind” <b@x.example>", "Bo Lind"),
        ("'Pat O'Hara' <b@x.example>", "Pat O'Hara"),
        ("'t Hart, Jan <b@x.example>", "'t Hart, Jan"),
        ('"Bo" Lind "Jr" <b@x.example>', '"Bo" Lind "Jr"'),
        ('Bo "Bobo" <b@x.example>', 'Bo "Bobo"'),
        ("'Bo Lind <b@x.example>", "Bo Lind"),
        ("B@x.example <b@x.example>", ""),
        ("'b@x.example' <mailto:b@x.example>", ""),
        ("Bo Lind [mailto:b@x.example]", "Bo Lind"),
        ("Bo Lind ‹b@x.example›", "Bo Lind"),
        ("mailto:b@x.example", ""),
    ],
)
def test_a_name_is_read_without_the_marks_round_it(written: str, name: str) -> None:
    assert addresses.parse_mailbox(written) == (name, "b@x.example")
    (piece,) = addresses.split_pasted(written)
    assert addresses.parse_mailbox(piece) == (name, "b@x.example")


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("Ada Brine", "ADA BRINE"),
        ("Ada Brine", "Brine, Ada"),
        ("Ada Brine", "A. Brine"),
        ("Ada Brine", "Ada"),
        ("Ada Brine", ""),
        ("Dr Ada Brine", "Ada Brine"),
        ("Bob Keel", "Robert Keel"),
        ("Jon Keel", "John Keel"),
        ("Ada Brine-Keel", "Ada Brine"),
        ("Zoë Ørland", "Zoe Orland"),
        ("Fredrik Keel", "Frederik Keel"),
    ],
)
def test_spellings_of_one_name_do_not_contradict(one: str, other: str) -> None:
    assert not naming.contradicts(one, other)
    assert not naming.contradicts(other, one)


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("Una Berg", "Per Berg"),
        ("Tom Pike", "Tom Pike jun."),
        ("Tom Pike sen.", "Tom Pike jun."),
        ("Erik Berg", "Erika Berg"),
        ("Paul Keel", "Paula Keel"),
        ("Ada Brine", "Ada Keel"),
        ("Ada", "Brine"),
        ("Harbour office", "Maren Holt"),
        ("Jan Berg", "Jon Berg"),
        ("李小龙", "王小明"),
    ],
)
def test_two_people_contradict(one: str, other: str) -> None:
    assert naming.contradicts(one, other)
    assert naming.contradicts(other, one)


@pytest.mark.parametrize(
    ("name", "given_name", "family"),
    [
        ("Maren Holt", "Maren", "Holt"),
        ("Holt, Maren", "Maren", "Holt"),
        ("Jan van der Meer", "Jan", "van der Meer"),
        ("Dr. Ada Mary Brine", "Ada Mary", "Brine"),
        ("Tom Pike jun.", "Tom", "Pike"),
        ("Ada", "Ada", ""),
        ("Pike, jun.", "Pike", ""),
        ("", "", ""),
        ("Ing. Jan Holm, Ph.D.", "Jan", "Holm"),
        ("Doc. Dr.-Ing. Jan Holm, CSc.", "Jan", "Holm"),
        ("Dipl.-Ing. Jan Holm", "Jan", "Holm"),
        ("MUDr. Jana Holm", "Jana", "Holm"),
        ("Mag Holm", "Mag", "Holm"),
        ("Κος Γιώργος Παπάς", "Γιώργος", "Παπάς"),
        ("Г-жа Мария Дал", "Мария", "Дал"),
        ("Sayın Ayşe Dal", "Ayşe", "Dal"),
        ("Doc Martin", "Doc", "Martin"),
    ],
)
def test_a_name_falls_into_given_and_family(name: str, given_name: str, family: str) -> None:
    assert names.split_name(name) == (given_name, family)


@given(st.text())
def test_nothing_shown_can_steer_a_terminal(anything: str) -> None:
    for shown in (text.visible(anything), text.tidy(anything)):
        assert not text.has_unsafe(shown)
    assert not any(text.has_unsafe(line) for line in text.visible_lines(anything).split("\n"))


@given(st.text())
def test_folding_twice_is_folding_once(anything: str) -> None:
    assert text.fold(text.fold(anything)) == text.fold(anything)


@pytest.mark.parametrize("title", ["", "   ", "---", "a\nb", "a\x1b[2J", "x" * 121, "a\u2028b"])
def test_a_title_must_be_one_plain_line(title: str) -> None:
    with pytest.raises(UnclearError):
        text.plain_title(title)
