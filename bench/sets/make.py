#!/usr/bin/env python3
"""Makes question sets from documentation packages of Debian, to measure search and answers on texts that nobody wrote for it.

    python3 bench/sets/make.py FOLDER [NAME...]

For each set, FOLDER/NAME has `documents/` (a file for each section of the documentation, without its heading), `lists/` (the same
and the tables of contents, which name the headings), `few/` (80 sections that answer questions of `dev`, since few documents are told from
many by nothing but their number) and `questions.jsonl`, in the format of `logothete evaluate`:

    logothete build FOLDER/NAME/documents --corpus NAME.corpus
    logothete evaluate FOLDER/NAME/questions.jsonl --split dev --corpus NAME.corpus

A heading that asks or names something becomes a question, and the section below it the right place. `kind` says what it is:
`asks` (the heading is a question), `names` (it names a subject), `index` (an entry of the index, and the section that it points to; where a
documentation has one), `near miss` (its section was taken out of the documents) and `far` (it is
from another set). The pages of a documentation are split into `dev` and `test`, so that no page is in
both. The choice depends on names alone: the same packages give the same sets.

Needs `apt-get` (with its lists up to date) and `dpkg`. Nothing that it makes belongs into the repository.
"""

import hashlib
import html
import json
import pathlib
import posixpath
import re
import subprocess
import sys
from html.parser import HTMLParser

# name: the package, the folder of its pages, and the pages.
SETS = {
    "accounting": ("gnucash-docs", "usr/share/doc/gnucash-docs", "*-en/*.html"),
    "drawing": ("gimp-help-en", "usr/share/gimp/2.0/help/en", "*.html"),
    "handbook": ("debian-handbook", "usr/share/doc/debian-handbook/html/en-US", "*.html"),
    "music": ("lilypond-doc-html", "usr/share/doc/lilypond/html/Documentation", "**/*.html"),
    "packaging": ("developers-reference", "usr/share/developers-reference", "*.html"),
    "perl": ("perl-doc", "usr/share", "**/perlfaq*.pod"),
    "policy": ("debian-policy", "usr/share/doc/debian-policy", "**/*.html"),
    "server": ("apache2-doc", "usr/share/doc/apache2-doc/manual/en", "**/*.html"),
    "statistics": ("r-doc-html", "usr/share/R/doc/manual", "*.html"),
}
MAX_QUESTIONS = 600
MAX_INDEX = 200
# Of each hundred questions of a set, so many more are unanswerable, near and far.
NEAR, FAR = 10, 10
# So many sections, which answer dev questions, are a small documentation of their own.
FEW = 80
MIN_WORDS, MAX_WORDS = 30, 3_000

HEADINGS = {"h1", "h2", "h3", "h4", "h5", "h6"}
SKIPPED = {"script", "style", "nav", "header", "footer", "form", "title", "select", "button"}
BLOCKS = {"p", "li", "dd", "dt", "pre", "tr", "div", "blockquote", "table", "ul", "ol", "dl", "section", "article", "br"}
# Navigation that no element marks.
NAVIGATION = re.compile(r"nav|toc|menu|breadcrumb|footer|header|sidebar|related|sphinx|contents", re.I)
GENERIC = re.compile(
    r"^(introduction|overview|see also|notes?|examples?|options|synopsis|description|usage|index|general|contents|summary|history"
    r"|copyright|license|authors?|preface|bibliography|glossary|references?|acknowledg\w+|table of contents|other|miscellaneous|about.*"
    r"|name|top|footnotes?|related topics|activating.*|known issues.*|selected snippets|installation reference|internals reference)$",
    re.I,
)
ASKS = re.compile(r"\?$|^(how|what|why|when|where|which|who|can|does|do|is|are|should)\b", re.I)


class Sections(HTMLParser):
    """The sections of a page: heading, text, the number of words that are links, and the anchors; and the entries of an index."""

    def __init__(self):
        super().__init__(convert_charrefs=True)
        self.sections = [{"heading": "", "text": [], "linked": 0, "anchors": []}]
        self.entries = []
        self.entry = None
        self.skipping = 0
        self.open = []
        self.in_heading = False
        self.links = 0

    def handle_starttag(self, tag, attributes):
        named = dict(attributes)
        self.sections[-1]["anchors"] += [named[name] for name in ("id", "name") if named.get(name)]
        if tag == "a" and "#index-" in (named.get("href") or ""):
            self.entry = [named["href"], ""]
        if tag in {"br", "hr", "img", "meta", "link", "input", "col", "wbr", "area", "source"}:
            if tag == "br":
                self.add("\n")
            return
        marks = " ".join(value or "" for name, value in attributes if name in {"class", "id", "role"})
        skips = tag in SKIPPED or (tag in {"div", "ul", "table", "p", "section"} and NAVIGATION.search(marks))
        self.open.append((tag, bool(skips)))
        self.skipping += bool(skips)
        if self.skipping:
            return
        if tag in HEADINGS:
            self.sections.append({"heading": "", "text": [], "linked": 0, "anchors": []})
            self.in_heading = True
        elif tag in BLOCKS:
            self.add("\n\n" if tag in {"p", "pre", "blockquote", "table", "ul", "ol", "dl"} else "\n")
        if tag in {"td", "th"}:
            self.add(" ")
        self.links += tag == "a"

    def handle_endtag(self, tag):
        if tag == "a" and self.entry:
            self.entries.append(tuple(self.entry))
            self.entry = None
        while any(name == tag for name, _ in self.open):
            name, skips = self.open.pop()
            self.skipping -= skips
            self.links -= name == "a" and not self.skipping and self.links > 0
            if name == tag:
                break
        if tag in HEADINGS:
            self.in_heading = False
        elif tag in BLOCKS and not self.skipping:
            self.add("\n")

    def handle_data(self, data):
        if self.entry:
            self.entry[1] += data
        if not self.skipping:
            self.add(data)

    def add(self, text):
        section = self.sections[-1]
        if self.in_heading:
            section["heading"] += text
        else:
            section["text"].append(text)
            if self.links:
                section["linked"] += len(text.split())


def of_html(text):
    parser = Sections()
    parser.feed(text)
    parser.close()
    sections = [
        (section["heading"], "".join(section["text"]), section["linked"], section["anchors"]) for section in parser.sections
    ]
    return sections, parser.entries


def of_pod(text):
    """The sections of a page in Perl's format, without its marks."""
    sections, heading, lines = [], "", []
    for line in text.splitlines():
        found = re.match(r"=head[1-4]\s+(.*)", line)
        if found:
            sections.append((heading, lines))
            heading, lines = found.group(1), []
        elif not line.startswith("="):
            lines.append(line)
    sections.append((heading, lines))

    def plain(marked):
        marked = re.sub(r"[A-Z]<<+\s(.*?)\s>>+", r"\1", marked)
        for _ in range(3):
            marked = re.sub(r"[BCFIXSZ]<([^<>]*)>", r"\1", marked)
            marked = re.sub(r"L<(?:([^<>|]*)\|)?([^<>]*)>", lambda link: link.group(1) or link.group(2), marked)
        return html.unescape(marked.replace("E<lt>", "<").replace("E<gt>", ">"))

    return [(plain(heading), plain("\n".join(lines)), 0, []) for heading, lines in sections], []


def tidy(text):
    text = re.sub(r"[ \t\u00a0]+", " ", text)
    return re.sub(r"\n\s*\n\s*", "\n\n", text).strip()


def heading_of(text):
    text = re.sub(r"\s+", " ", text).strip(" ¶#\u00a0")
    # Numbers of chapters, and the marks of sections.
    text = re.sub(r"^(chapter|appendix|part|section)?\s*([0-9A-Z]{1,2}\.)*[0-9]*\.?\s+(?=\S)", "", text, flags=re.I)
    return re.sub(r"^[0-9A-Z](\.[0-9]+)+\.?\s*", "", text).strip()


def number(*parts):
    """A number that depends on names alone."""
    return int.from_bytes(hashlib.blake2b("\0".join(parts).encode(), digest_size=6).digest(), "big")


def names_something(heading):
    words = heading.split()
    return 2 <= len(words) <= 14 and not GENERIC.match(heading) and sum(word.isalpha() for word in words) >= 2


def pages(package, folder, pattern, downloads):
    root = downloads / package
    if not root.is_dir():
        subprocess.run(["apt-get", "download", "-q", package], cwd=downloads, check=True, stdout=subprocess.DEVNULL)
        archive = next(downloads.glob(f"{package}_*.deb"))
        subprocess.run(["dpkg", "-x", archive, root], check=True)
    for file in sorted((root / folder).glob(pattern)):
        # Translations stand beside some pages.
        if re.search(r"\.[a-z]{2}(_[A-Z]{2})?\.html$", file.name) or not file.is_file():
            continue
        yield file.relative_to(root / folder), file.read_text(errors="replace")


def collect(name, downloads):
    """The sections of a set, its lists of headings, and the entries of its index with the files that they point to."""
    sections, lists, seen, places, entries = [], [], set(), {}, []
    for path, text in pages(*SETS[name], downloads):
        page = str(path.with_suffix("")).replace("/", "-")
        parts, links = (of_pod if path.suffix == ".pod" else of_html)(text)
        for href, entry in links:
            target, _, anchor = href.partition("#")
            target = posixpath.normpath(posixpath.join(path.parent, target)) if target else str(path)
            entries.append((re.sub(r"\s+", " ", entry).strip(), (target, anchor)))
        for at, (heading, body, linked, anchors) in enumerate(parts):
            heading, body = heading_of(heading), tidy(body)
            words = len(body.split())
            file = f"{page}/{at:03}.md"
            if words and linked > 0.6 * words and words > 20:
                lists.append((file, body))
                continue
            # Pages repeat what stands on all of them.
            mark = number(body)
            if not MIN_WORDS <= words <= MAX_WORDS or mark in seen:
                continue
            seen.add(mark)
            sections.append({"file": file, "page": page, "heading": heading, "body": body})
            places |= {(str(path), anchor): sections[-1] for anchor in anchors}
    # An entry that points to several sections asks for none of them.
    index = {}
    for entry, place in entries:
        if place in places:
            index.setdefault(entry, {})[places[place]["file"]] = places[place]
    single = [(entry, *targets.values()) for entry, targets in index.items() if len(targets) == 1]
    return sections, lists, [(entry, section) for entry, section in single if is_search(entry, section)]


def is_search(entry, section):
    """Whether somebody might type an entry to find a section: words, and not the heading over again."""
    letters = sum(letter.isalpha() for letter in entry)
    return letters >= 4 and len(entry.split()) <= 8 and entry.lower() != section["heading"].lower()


def without_first_line(body, heading):
    """The text without a line that repeats the heading."""
    first, _, rest = body.partition("\n")
    return rest.strip() if heading and first.strip().lower() == heading.lower() else body


def make(name, sections, lists, index, others, out):
    counts = {}
    for section in sections:
        counts[section["heading"].lower()] = counts.get(section["heading"].lower(), 0) + 1
    # A heading of several sections asks for none of them.
    usable = [
        section for section in sections
        if counts[section["heading"].lower()] == 1 and (names_something(section["heading"]) or ASKS.search(section["heading"]))
    ]
    usable.sort(key=lambda section: number(name, section["file"]))
    usable = usable[:MAX_QUESTIONS]
    near = usable[: len(usable) * NEAR // (100 + NEAR)]
    removed = {section["file"] for section in near}
    far = sorted(others, key=lambda other: number(name, other))[: len(usable) * FAR // 100]

    def split(page):
        return "dev" if number("split", name, page) % 2 == 0 else "test"

    questions = []
    for at, section in enumerate(usable):
        asks = bool(ASKS.search(section["heading"]))
        question = {"id": f"{name}-{at:03}", "question": section["heading"], "split": split(section["page"])}
        if section["file"] in removed:
            question |= {"refuse": True, "kind": "near miss"}
        else:
            question |= {"relevant": [{"document": section["file"]}], "kind": "asks" if asks else "names"}
        questions.append(question)
    found = sorted(index, key=lambda found: number(name, "index", found[0]))
    found = [(entry, section) for entry, section in found if section["file"] not in removed][:MAX_INDEX]
    for at, (entry, section) in enumerate(found):
        relevant, half = [{"document": section["file"]}], split(section["page"])
        questions.append({
            "id": f"{name}-index-{at:03}", "question": entry, "split": half, "relevant": relevant, "kind": "index",
        })
    for at, heading in enumerate(far):
        questions.append({
            "id": f"{name}-far-{at:03}", "question": heading, "refuse": True, "kind": "far", "split": split(heading),
        })

    folder = out / name
    for variant in ["documents", "lists"]:
        for section in sections:
            if section["file"] not in removed:
                write(folder / variant / section["file"], without_first_line(section["body"], section["heading"]))
    for file, body in lists:
        write(folder / "lists" / file, body)
    answering = {place["document"] for question in questions if question["split"] == "dev" for place in question.get("relevant", [])}
    few = set(sorted(answering, key=lambda file: number(name, "few", file))[:FEW])
    for section in sections:
        if section["file"] in few:
            write(folder / "few" / section["file"], without_first_line(section["body"], section["heading"]))
    write(folder / "questions.jsonl", "\n".join(json.dumps(question, ensure_ascii=False) for question in questions))
    kinds = {}
    for question in questions:
        kinds[question["kind"]] = kinds.get(question["kind"], 0) + 1
    print(f"{name}: {len(sections) - len(removed)} documents, {len(lists)} lists, {len(questions)} questions {kinds}")


def write(path, text):
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text + "\n")


def main():
    if len(sys.argv) < 2:
        sys.exit("give a folder, and the names of sets if not all are wanted: " + ", ".join(SETS))
    out = pathlib.Path(sys.argv[1])
    wanted = sys.argv[2:] or list(SETS)
    unknown = [name for name in wanted if name not in SETS]
    if unknown:
        sys.exit(f"there is no set {', '.join(unknown)}; the sets are {', '.join(SETS)}")
    if out.exists() and any((out / name).exists() for name in wanted):
        sys.exit(f"{out} has some of these sets already; name another folder, or remove them")
    # What is unpacked there is used again by the next run.
    downloads = out / "packages"
    downloads.mkdir(parents=True, exist_ok=True)
    collected = {name: collect(name, downloads) for name in SETS}
    for name in wanted:
        others = [
            section["heading"]
            for other, (sections, _, _) in collected.items()
            if other != name
            for section in sections
            if names_something(section["heading"])
        ]
        make(name, *collected[name], others, out)


if __name__ == "__main__":
    main()
