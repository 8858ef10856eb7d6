#!/usr/bin/env python3
"""Makes pairs to train an encoder on: a heading or an entry of an index, and the section that it names, from documentation packages of Debian.

    python3 bench/train/pairs.py FOLDER

writes `pairs.jsonl` (`package`, `question`, `text`, `kind`), `held.jsonl` (the same, of documents that settings are chosen on and nothing is trained on)
and `packages.json` (the version and the licence file of each package) into FOLDER. What is measured stays unseen: the packages of `bench/sets`, of
which the dev halves are held, and those of UNSEEN. A section that shares too much text with one of them is left out too.

Needs `apt-get` (with its lists up to date) and `dpkg`. A package is unpacked, read and removed again.
"""

import hashlib
import importlib.util
import json
import pathlib
import re
import shutil
import subprocess
import sys

here = pathlib.Path(__file__).resolve().parent
spec = importlib.util.spec_from_file_location("make", here.parent / "sets" / "make.py")
make = importlib.util.module_from_spec(spec)
spec.loader.exec_module(make)

PACKAGES = """
git-doc postgresql-doc-15 sqlite3-doc cmake-doc autoconf-doc maint-guide debian-reference-en debmake-doc aptitude-doc-en apt-doc debian-kernel-handbook
harden-doc exim4-doc-html postfix-doc bind9-doc ntpsec-doc rsyslog-doc libreoffice-help-en-us maxima-doc gnuplot-doc denemo-doc csound-doc swi-prolog-doc
python-django-doc sphinx-doc libglib2.0-doc systemtap-doc bacula-doc zsh-doc tomcat10-docs ant-doc groovy-doc grass-doc postgis-doc erlang-doc
supercollider-common python-scipy-doc installation-guide-amd64 latex2html binutils-doc valgrind rust-doc ghc-doc racket-doc sbcl-doc vim-doc docutils-doc
wireshark-doc mutt imagemagick-6-doc graphviz-doc povray-doc nodejs-doc phpmyadmin fai-doc live-manual-html slurm-wlm-doc libfftw3-doc singular-doc
scons-doc parted-doc linux-doc-6.1 ghostscript-doc gap-doc pari-doc python-pandas-doc mailman3-doc shorewall-doc debian-history python-sqlalchemy-doc
mercurial-common python-tornado-doc python-flask-doc python-werkzeug-doc python-jinja2-doc python-click-doc python-requests-doc python-statsmodels-doc
python-sympy-doc python-astropy-doc python-biopython-doc doxygen-doc swig4.0-doc libxml2-doc libgtk-4-doc gnuradio-doc avr-libc libvirt-doc docker-doc
haproxy-doc varnish-doc knot-resolver-doc borgbackup-doc ardour lmms-common rosegarden frescobaldi gpsbabel-doc ngspice-doc iverilog xfig-doc yorick-doc
lazarus-doc-2.2 clisp-doc mit-scheme-doc pspp amanda-common hylafax-server
""".split()
# Nothing of these is trained on.
UNSEEN = ["python3.11-doc", "debian-faq", "octave-doc"]
MAX_OF_PACKAGE, MAX_HELD = 1_500, 120
MAX_WORDS = 300
# A section with this share of its shingles in what is measured is left out.
MAX_SHARED = 0.3
SHINGLE, SAMPLED = 8, 4
ENGLISH = {"the", "of", "to", "and", "a", "in", "is", "for", "this", "be", "or", "by", "with"}


def shingles(text):
    """Hashes of every eight words in a row, a quarter of them."""
    words = re.findall(r"\w+", text.lower())
    found = (hash_of(" ".join(words[at:at + SHINGLE])) for at in range(max(len(words) - SHINGLE + 1, 1)))
    return {value for value in found if value % SAMPLED == 0}


def hash_of(text):
    # Python's own hash of text differs from run to run.
    return int.from_bytes(hashlib.blake2b(text.encode(), digest_size=8).digest(), "big")


def is_english(text):
    words = text.lower().split()
    return sum(word in ENGLISH for word in words) >= 0.08 * len(words)


def unpacked(package, folder):
    root = folder / package
    if not root.is_dir():
        subprocess.run(["apt-get", "download", "-q", package], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        archive = next(folder.glob(f"{package}_*.deb"))
        subprocess.run(["dpkg", "-x", archive, root], check=True)
        archive.unlink()
    return root


def facts(package, root):
    policy = subprocess.run(["apt-cache", "policy", package], stdout=subprocess.PIPE, text=True).stdout
    version = re.search(r"Candidate: (\S+)", policy)
    files = sorted(root.glob("usr/share/doc/*/copyright")) or copyright_elsewhere(package, root)
    text = "".join(file.read_text(errors="replace") for file in files)
    # A file in prose refers to a licence by its place on every Debian machine.
    names = re.findall(r"^License: *(\S.*)$", text, re.M) or re.findall(r"/usr/share/common-licenses/([\w.+-]*\w)", text)
    files = [str(file.relative_to(root)) for file in files]
    return {"package": package, "version": version and version.group(1), "licences": sorted(set(names)), "file": files}


def copyright_elsewhere(package, root):
    """The licence file of a package whose documentation folder is a link to that of another package, which is unpacked too."""
    link = root / "usr/share/doc" / package
    if not link.is_symlink():
        return []
    other = root / "other"
    other.mkdir(exist_ok=True)
    return sorted(unpacked(link.readlink().name, other).glob("usr/share/doc/*/copyright"))


def main():
    if len(sys.argv) != 2:
        sys.exit("give a folder")
    out = pathlib.Path(sys.argv[1])
    downloads = out / "packages"
    downloads.mkdir(parents=True, exist_ok=True)
    measured, sources, held, packages = set(), {}, {}, []
    for name, (package, *_) in list(make.SETS.items()):
        unpacked(package, downloads)
        sections, _, index = make.collect(name, downloads)
        for section in sections:
            measured |= shingles(section["body"])
        is_dev = lambda section: make.number("split", name, section["page"]) % 2 == 0
        held[package] = (list(filter(is_dev, sections)), [(entry, section) for entry, section in index if is_dev(section)])
    for package in UNSEEN:
        root = unpacked(package, downloads)
        for file in filter(pathlib.Path.is_file, root.rglob("*.html")):
            measured |= shingles(re.sub(r"<[^>]*>", " ", file.read_text(errors="replace")))
        shutil.rmtree(root)
    print(f"{len(measured)} shingles are measured", flush=True)
    for package in PACKAGES:
        try:
            root = unpacked(package, downloads)
        except (subprocess.CalledProcessError, StopIteration):
            print(f"{package}: not to be had", flush=True)
            continue
        make.SETS[package] = (package, "usr/share", "**/*.html")
        sections, _, index = make.collect(package, downloads)
        if sections:
            sources[package] = (sections, index)
            packages.append(facts(package, root))
        shutil.rmtree(root)
        print(f"{package}: {len(sections)} sections", flush=True)
    count = write(out / "pairs.jsonl", sources, measured, MAX_OF_PACKAGE)
    print(f"{write(out / 'held.jsonl', held, set(), MAX_HELD)} pairs are held")
    (out / "packages.json").write_text(json.dumps(packages, indent=1))
    print(f"{count} pairs of {len(packages)} packages")


def write(path, sources, measured, most):
    count = 0
    with open(path, "w") as file:
        for package, (sections, index) in sources.items():
            for pair in pairs(package, sections, index, measured, most):
                file.write(json.dumps(pair, ensure_ascii=False) + "\n")
                count += 1
    return count


def pairs(package, sections, index, measured, most):
    counts = {}
    for section in sections:
        counts[section["heading"].lower()] = counts.get(section["heading"].lower(), 0) + 1
    found = []
    for section in sections:
        heading = section["heading"]
        if counts[heading.lower()] == 1 and (make.names_something(heading) or make.ASKS.search(heading)):
            found.append(("asks" if make.ASKS.search(heading) else "names", heading, section))
    found += [("index", entry, section) for entry, section in index]
    found.sort(key=lambda pair: make.number("pairs", package, pair[1], pair[2]["file"]))
    kept, checked = 0, {}
    for kind, question, section in found:
        if kept >= most:
            return
        body = make.without_first_line(section["body"], section["heading"])
        if section["file"] not in checked:
            own = shingles(body)
            shared = len(own & measured) / max(len(own), 1)
            checked[section["file"]] = is_english(body) and shared < MAX_SHARED
        if checked[section["file"]]:
            kept += 1
            text = " ".join(body.split()[:MAX_WORDS])
            yield {"package": package, "kind": kind, "question": question, "text": text}


if __name__ == "__main__":
    main()
