"""A message whose text was written elsewhere: in a word processor, as a web page, as a draft of a mail program."""

from __future__ import annotations

import html
import io
import os
import re
import subprocess
import zipfile
from collections.abc import Callable
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from html.parser import HTMLParser

import pytest
from conftest import HANGS, Mail, Office
from hypothesis import given
from hypothesis import strategies as st

from barnacle.core.mail.markdown import as_html
from barnacle.files.written_text import from_page

PAGE = """<!DOCTYPE html><html><head><title>no</title><style>p {}</style></head><body>
<h2>Rota &amp; tides</h2>
<p>Dear <i>all</i>,<br>the slipway is <b>closed </b>on Friday, 5*3 boats. See <a href="https://tidewick.example/a_(b)">the
rota</a> or <a href="mailto:office@tidewick.example">office@tidewick.example</a>.</p>
<ul><li>North gate<ul><li>inner</ul><li>South gate</ul><ol start=3><li>Third</ol>
<table><tr><th>Day<th>Who<tr><td>Friday<td>Bo</table>
<div>one<div>two</div></div><div><br></div><div style="font-weight: 700">three</div>
<blockquote>As it was</blockquote><p hidden>seen by nobody<p>Ma<b>ren</b><img src=x.png><img src=y width=1>"""
READ = """## Rota & tides

Dear *all*,
the slipway is **closed** on Friday, 5\\*3 boats. See [the rota](https://tidewick.example/a_%28b%29) or <office@tidewick.example>.

- North gate
    - inner
- South gate

3. Third

| Day    | Who |
| ------ | --- |
| Friday | Bo  |

one
two

**three**

> As it was

Ma**ren**
"""

# The same in the two kinds of documents, as word processors write it: what shows stands in styles, lists and parts beside.
WORD = """<w:document xmlns:w="w" xmlns:r="r" xmlns:m="mc"><w:body>
<w:p><w:pPr><w:pStyle w:val="berschrift2"/></w:pPr><w:r><w:t>Rota</w:t></w:r></w:p>
<w:p><w:r><w:t xml:space="preserve">The slipway is </w:t></w:r><w:r><w:rPr><w:b/></w:rPr><w:t>clo</w:t></w:r><w:r><w:rPr><w:b/></w:rPr><w:t>sed</w:t></w:r>
<w:r><w:rPr><w:vanish/></w:rPr><w:t>secret</w:t></w:r><w:del><w:r><w:delText>gone</w:delText></w:r></w:del><w:moveFrom><w:r><w:t>moved</w:t></w:r></w:moveFrom>
<w:r><w:footnoteReference w:id="1"/></w:r><w:hyperlink r:id="r1"><w:r><w:t xml:space="preserve"> here</w:t></w:r></w:hyperlink></w:p>
<w:p><w:pPr><w:numPr><w:ilvl w:val="0"/><w:numId w:val="1"/></w:numPr></w:pPr><w:r><w:t>First</w:t></w:r></w:p>
<w:p><w:pPr><w:numPr><w:ilvl w:val="1"/><w:numId w:val="1"/></w:numPr></w:pPr><w:r><w:t>inner</w:t></w:r></w:p>
<w:p><w:r><w:t>Between</w:t></w:r></w:p>
<w:p><w:pPr><w:numPr><w:ilvl w:val="0"/><w:numId w:val="1"/></w:numPr></w:pPr><w:r><w:t>Second</w:t></w:r></w:p>
<w:tbl><w:tr><w:tc><w:p><w:r><w:t>Day</w:t></w:r></w:p></w:tc><w:tc><w:p><w:r><w:t>Who</w:t></w:r></w:p></w:tc></w:tr>
<w:tr><w:tc><w:p><w:r><w:t>Friday</w:t></w:r></w:p></w:tc><w:tc><w:p><w:r><w:t>Bo</w:t></w:r></w:p></w:tc></w:tr></w:tbl>
<w:p><w:pPr><w:spacing w:after="0"/></w:pPr><w:r><w:t>Yours</w:t></w:r></w:p>
<w:p><w:pPr><w:spacing w:after="0"/></w:pPr><w:r><w:t>Maren</w:t></w:r><w:r><w:drawing><pic:pic xmlns:pic="p"/></w:drawing></w:r></w:p>
<w:p/></w:body></w:document>"""
WORD_PARTS = {
    "word/_rels/document.xml.rels": '<Relationships><Relationship Id="r1" Target="https://tidewick.example/rota"/></Relationships>',
    "word/styles.xml": '<w:styles xmlns:w="w"><w:docDefaults><w:pPrDefault><w:pPr><w:spacing w:after="160"/></w:pPr></w:pPrDefault></w:docDefaults>'
    '<w:style w:type="paragraph" w:styleId="berschrift2"><w:name w:val="heading 2"/></w:style></w:styles>',
    "word/numbering.xml": '<w:numbering xmlns:w="w"><w:abstractNum w:abstractNumId="0"><w:lvl w:ilvl="0"><w:start w:val="4"/><w:numFmt w:val="decimal"/></w:lvl>'
    '<w:lvl w:ilvl="1"><w:numFmt w:val="bullet"/></w:lvl></w:abstractNum><w:num w:numId="1"><w:abstractNumId w:val="0"/></w:num></w:numbering>',
    "word/header1.xml": '<w:hdr xmlns:w="w"><w:p><w:r><w:t>Trust</w:t></w:r></w:p></w:hdr>',
}
OPEN = """<office:document-content xmlns:office="o" xmlns:style="s" xmlns:text="x" xmlns:fo="f" xmlns:table="t" xmlns:xlink="l" xmlns:draw="d" xmlns:svg="v">
<office:automatic-styles><style:style style:name="T1" style:family="text"><style:text-properties fo:font-weight="bold"/></style:style>
<style:style style:name="T2"><style:text-properties text:display="none"/></style:style>
<style:style style:name="P1" style:parent-style-name="Apart"/>
<text:list-style style:name="L1"><text:list-level-style-number text:level="1" text:start-value="4"/><text:list-level-style-bullet text:level="2"/></text:list-style>
</office:automatic-styles><office:text><text:tracked-changes><text:p>gone</text:p></text:tracked-changes>
<text:h text:outline-level="2">Rota</text:h>
<text:p text:style-name="P1">The <text:s/>slipway is <text:span text:style-name="T1">closed</text:span><text:span text:style-name="T2">secret</text:span><text:note><text:p>1</text:p></text:note>
<text:a xlink:href="https://tidewick.example/rota">here</text:a><office:annotation><text:p>remark</text:p></office:annotation></text:p>
<text:list text:style-name="L1"><text:list-item><text:p>First</text:p><text:list><text:list-item><text:p>inner</text:p></text:list-item></text:list></text:list-item></text:list>
<text:p text:style-name="P1">Between</text:p>
<text:list text:style-name="L1" text:continue-numbering="true"><text:list-item><text:p>Second</text:p></text:list-item></text:list>
<table:table><table:table-row><table:table-cell><text:p>Day</text:p></table:table-cell><table:table-cell><text:p>Who</text:p></table:table-cell></table:table-row>
<table:table-row><table:table-cell><text:p>Friday</text:p></table:table-cell><table:table-cell><text:p>Bo</text:p></table:table-cell></table:table-row></table:table>
<text:p>Yours</text:p><text:p>Maren<draw:frame><draw:image/><svg:desc>map</svg:desc></draw:frame></text:p><text:p/>
</office:text></office:document-content>"""
OPEN_PARTS = {
    "styles.xml": '<s xmlns:style="s" xmlns:fo="f"><style:style style:name="Apart"><style:paragraph-properties fo:margin-bottom="0.25cm"/></style:style>'
    '<style:footer xmlns:text="x"><text:p>Trust</text:p></style:footer></s>',
}
OF_DOCUMENTS = """## Rota

The slipway is **closed** [here](https://tidewick.example/rota)

4. First
    - inner

Between

5. Second

| Day    | Who |
| ------ | --- |
| Friday | Bo  |

Yours
Maren
"""


def document(part: str, text: str, others: dict[str, str]) -> bytes:
    kept = io.BytesIO()
    with zipfile.ZipFile(kept, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.text")
        for name, content in {part: text, **others}.items():
            archive.writestr(name, content)
    return kept.getvalue()


def draft() -> bytes:
    message = EmailMessage()
    message["From"], message["Subject"] = "Maren Holt <maren@tidewick.example>", "Slipway – closed"
    message.set_content("Dear all")
    message.add_alternative(PAGE, subtype="html")
    message.add_attachment(b"Rota: Bo on Friday.", "text", "plain", filename="C:\\docs\\rota.txt")
    return message.as_bytes()


@pytest.mark.parametrize(
    ("name", "content", "read", "without"),
    [
        ("a.html", PAGE.encode(), READ, "1 hidden passage and 1 picture"),
        ("a.eml", draft(), READ, "1 hidden passage and 1 picture"),
        ("a.docx", document("word/document.xml", WORD, WORD_PARTS), OF_DOCUMENTS,
         "1 hidden passage, 1 footnote, 1 picture and 1 header or footer"),
        ("a.odt", document("content.xml", OPEN, OPEN_PARTS), OF_DOCUMENTS,
         "1 hidden passage, 1 footnote, 1 picture and 1 header or footer"),
    ],
)  # fmt: skip
def test_its_format_is_kept_and_what_is_not_is_named(
    crew: Office, serve: Callable[..., Mail], name: str, content: bytes, read: str, without: str
) -> None:
    mail = serve()
    crew.file(name, content)
    subject = () if name == "a.eml" else ("--subject", "Slipway – closed")
    made = crew.run("compose", "Crew", *subject, "--body", name)
    assert f"{name} is taken without {without}; --attach sends files along.\n" in made.err
    crew.run("send", "m1", "--yes")
    got = message_from_bytes(mail.copies("bo@tidewick.example")[0], policy=default)
    plain, page = (got.get_body((kind,)).get_content().replace("\r\n", "\n") for kind in ("plain", "html"))
    # A sign that would be markup is none in either.
    assert plain == read.replace("\\*", "*") and page == as_html(read) and got["Subject"] == "Slipway – closed"
    assert [one.get_filename() for one in got.iter_attachments()] == ["rota.txt"] * (name == "a.eml")
    crew.run("text", "keep", "Rota", "m1")
    assert crew.told("text", "show", "Rota")["text"] == read


def test_what_comes_through_a_pipe_is_read_once(crew: Office) -> None:
    os.mkfifo(crew.folder / "pipe")
    for name, stdin in (("pipe", None), ("-", subprocess.PIPE)):
        running = crew.start("compose", "Crew", "--subject", "x", "--body", name, stdin=stdin)
        if stdin:
            running.communicate(PAGE.encode(), timeout=HANGS)
        else:
            (crew.folder / "pipe").write_bytes(PAGE.encode())
            running.wait(HANGS)
    assert crew.told("preview", "m1")["text"] == crew.told("preview", "m2")["text"] == READ.replace("\\*", "*")


def test_drafts_as_mail_programs_write_them(crew: Office) -> None:
    """Lists as paragraphs with their signs, conditional comments; lines that a space joins, with a signature below."""
    item = "<p class=MsoListParagraph style='mso-list:l0 level{} lfo1'><![if !supportLists]><span style='mso-list:Ignore'>{}<span>&nbsp; </span></span><![endif]>{}<o:p></o:p></p>\n"
    page = "<html><head><style><!-- p {} --></style><!--[if mso]><xml><o:x>no</o:x></xml><![endif]--></head><body><p class=MsoNormal>Bring:<o:p>&nbsp;</o:p></p>\n"
    items = "".join(
        item.format(*one) for one in ((1, "·", "ropes"), (2, "o", "long"), (1, "1)", "first"), (1, "2)", "second"))
    )
    crew.file("a.eml", f"MIME-Version: 1.0\nSubject: Ropes\nContent-Type: text/html\n\n{page}{items}</body></html>")
    crew.within("compose", "Crew", "--body", "a.eml")
    assert crew.told("preview", "m1")["text"] == "Bring:\n\n- ropes\n    - long\n\n1. first\n2. second\n"
    crew.within("settings", "mail.signature", "The office")
    crew.file(
        "b.eml", "MIME-Version: 1.0\nSubject: Tide\nContent-Type: text/plain; format=flowed\n\n"
        "The slipway is closed \non Friday.\n From ten.\n\n-- \nMaren\n",
    )  # fmt: skip
    crew.within("compose", "Crew", "--body", "b.eml")
    assert crew.told("preview", "m2")["text"] == "The slipway is closed on Friday.\nFrom ten.\n\n-- \nMaren\n"


def test_without_any_format_it_is_plain_text_and_without_a_subject_nothing(crew: Office) -> None:
    page = "<html><body><div>Dear all,</div><div>*ten*</div><div><br></div><div>Maren</div></body></html>"
    crew.file("a.htm", page)
    made = crew.run("compose", "Crew", "--subject", "x", "--body", "a.htm")
    assert crew.told("preview", "m1")["text"] == "Dear all,\n*ten*\n\nMaren\n" and made.err == ""
    assert "HTML" not in crew.run("preview", "m1").out
    assert "The message needs a subject" in crew.run("compose", "Crew", "--body", "a.htm", code=2).err
    # A draft with a member's address in it is held, as any text is.
    crew.file("b.eml", b"MIME-Version: 1.0\nSubject: Rota\n\nAsk bo@tidewick.example.\n")
    assert "bo@tidewick.example" in crew.run("compose", "Crew", "--body", "b.eml", code=2).err
    crew.within("outbox", "edit", "m1", "--body", "b.eml", "--allow-mention", "bo@tidewick.example")
    assert crew.told("preview", "m1")["headers"]["Subject"] == "x", "which is changed by --subject alone"
    for name, content, sentence in (
        (
            "a.docx",
            document("word/document.xml", "<w:document><w:p>", {}),
            "a.docx is damaged, and was not read. Save it",
        ),
        ("b.docx", document("content.xml", '<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>', {}), "b.docx is damaged"),
        ("c.html", b"<p></p>", "The message has no text."),
    ):
        crew.file(name, content)
        assert sentence in crew.run("compose", "Crew", "--subject", "x", "--body", name, code=2).err


SIGNS = (
    "tide bo Lund ten * ** _ __ ` ``` [ ] ( ) < > & # ## ~~~ - + 1. 3) | \\ ! [x](y) <b> &amp; &lt; = === --- a*b *c* _d_ e_f "
    "{given|you} https://x.example <bo@mole.example> \\* C:\\new ![a](b) [a]: “q” : ·"
).split()
LINE = st.lists(st.sampled_from(SIGNS), min_size=1, max_size=5).map(
    lambda words: html.escape(" ".join(words), quote=False)
)


def inline(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    mark = st.sampled_from(["{}", "{}<br>", "<b>{}</b>", "<i>{}</i>", '<a href="https://x.example/1">{}</a>', " {} "])
    return st.lists(st.tuples(mark, inner).map(lambda one: one[0].format(one[1])), min_size=1, max_size=3).map("".join)


TEXT = inline(st.one_of(LINE, inline(LINE)))
CELLS = st.lists(TEXT.map("<td>{}</td>".format), min_size=1, max_size=3).map("".join)
BLOCK = st.recursive(
    st.one_of(
        TEXT.map("<p>{}</p>".format), TEXT.map("<div>{}</div>".format), TEXT.map("<h2>{}</h2>".format), st.just("<hr>"),
        st.lists(CELLS.map("<tr>{}</tr>".format), min_size=1, max_size=3).map(lambda rows: f"<table>{''.join(rows)}</table>"),
    ),
    lambda inner: st.tuples(
        st.sampled_from(["<ul><li>{}{}<li>{}</ul>", "<ol><li>{}{}<li>{}</ol>", "<blockquote>{}{}{}</blockquote>"]), TEXT, inner, inner
    ).map(lambda one: one[0].format(*one[1:])),
    max_leaves=6,
)  # fmt: skip


class Words(HTMLParser):
    def __init__(self, page: str) -> None:
        super().__init__()
        self.said = ""
        self.feed(page)
        self.close()

    def handle_data(self, data: str) -> None:
        self.said += data


@given(st.lists(BLOCK, min_size=1, max_size=3).map("".join))
def test_whatever_signs_are_in_it_it_says_the_same(page: str) -> None:
    read = from_page(page)
    said = Words(as_html(read.text)).said if read.is_markdown else read.text
    assert re.sub(r"\s", "", said) == re.sub(r"\s", "", Words(page).said)


@pytest.mark.parametrize(
    "mark", ["<a x='", "<!x", "<?", "</", "x<!--", "<![CDATA[", "<p>", "<b>x", "<table><td>", "<li><ul>", "&#"]
)
def test_a_page_of_marks_that_do_not_end_is_read_in_the_time_of_another(office: Office, mark: str) -> None:
    """Until Python 3.14 its parser took minutes: each was looked for an end. `office.run` waits for no longer."""
    office.file("a.html", mark * (200_000 // len(mark)))
    office.run("compose", "bo@mole.example", "--subject", "x", "--body", "a.html", code=None)
    office.run("import", "a.html", code=None)
