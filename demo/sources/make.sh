#!/bin/sh
# Makes the documents of the demo that are not written by hand. Needs pdflatex with the lmodern, fancyhdr, titlesec,
# lastpage, microtype, multicol and longtable packages (Debian: texlive-latex-extra, lmodern), an office program
# (Debian: libreoffice-writer, libreoffice-calc, libreoffice-impress), pdftoppm and ImageMagick. The same source gives the
# same PDF bytes each time; the office program writes its own dates into its files.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
documents=$here/../documents
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
tex() {
    for pass in 1 2 3; do
        SOURCE_DATE_EPOCH=1707696000 FORCE_SOURCE_DATE=1 pdflatex -interaction=batchmode -halt-on-error \
            -output-directory="$work" "$here/$1.tex" >/dev/null
    done
}
office() {
    HOME=$work soffice --headless "$@" --outdir "$documents" >/dev/null
}
tex byelaws
cp "$work/byelaws.pdf" "$documents/byelaws.pdf"
office --infilter="HTML (StarWriter)" --convert-to docx "$here/crane-records.html"
office --convert-to pptx "$here/storm-briefing.fodp"
office --convert-to xlsx "$here/dues-2026.fods"
# A page image only, a little turned and grey, as scanners make them.
tex scanned-letter
pdftoppm -r 110 -gray -png -singlefile "$work/scanned-letter.pdf" "$work/scan"
convert "$work/scan.png" -rotate 0.4 -background white -level 5%,97% -quality 60 "$work/scan.jpg"
python3 - "$work/scan.jpg" "$documents/scanned-letter.pdf" <<'PYTHON'
import struct, sys
jpeg = open(sys.argv[1], "rb").read()
at = 2
while True:
    marker, length = struct.unpack(">HH", jpeg[at:at + 4])
    if marker in (0xFFC0, 0xFFC1, 0xFFC2):
        height, width, parts = struct.unpack(">HHB", jpeg[at + 5:at + 10])
        break
    at += 2 + length
colour = "/DeviceGray" if parts == 1 else "/DeviceRGB"
page = f"q {width * 72 / 110:.1f} 0 0 {height * 72 / 110:.1f} 0 0 cm /S Do Q".encode()
objects = [
    b"<< /Type /Catalog /Pages 2 0 R >>",
    b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
    f"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 {width * 72 / 110:.1f} {height * 72 / 110:.1f}] "
    f"/Resources << /XObject << /S 5 0 R >> >> /Contents 4 0 R >>".encode(),
    b"<< /Length %d >> stream\n%s\nendstream" % (len(page), page),
    f"<< /Type /XObject /Subtype /Image /Width {width} /Height {height} /BitsPerComponent 8 /ColorSpace {colour} "
    f"/Filter /DCTDecode /Length {len(jpeg)} >> stream\n".encode() + jpeg + b"\nendstream",
]
out, places = b"%PDF-1.4\n", []
for number, body in enumerate(objects, 1):
    places.append(len(out))
    out += b"%d 0 obj %s endobj\n" % (number, body)
start = len(out)
out += b"xref\n0 %d\n0000000000 65535 f \n" % (len(objects) + 1)
out += b"".join(b"%010d 00000 n \n" % place for place in places)
out += b"trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % (len(objects) + 1, start)
open(sys.argv[2], "wb").write(out)
PYTHON
