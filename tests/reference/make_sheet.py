"""Writes tests/data/sheet.ods: two sheets with dates, a percentage, an error and a formula.

Only the Python library: an OpenDocument spreadsheet is a zip of XML files (OASIS OpenDocument 1.2).
"""
import pathlib
import zipfile

HEAD = (
    '<?xml version="1.0" encoding="UTF-8"?>'
    '<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" '
    'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" '
    'xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
    'xmlns:of="urn:oasis:names:tc:opendocument:xmlns:of:1.2" office:version="1.2">'
    "<office:body><office:spreadsheet>"
)
TAIL = "</office:spreadsheet></office:body></office:document-content>"


def text(value):
    return f'<table:table-cell office:value-type="string"><text:p>{value}</text:p></table:table-cell>'


def number(value):
    return (f'<table:table-cell office:value-type="float" office:value="{value}">'
            f"<text:p>{value}</text:p></table:table-cell>")


def percent(value):
    return (f'<table:table-cell office:value-type="percentage" office:value="{value}">'
            f"<text:p>{100 * value}%</text:p></table:table-cell>")


def date(value):
    return (f'<table:table-cell office:value-type="date" office:date-value="{value}">'
            f"<text:p>{value}</text:p></table:table-cell>")


def sheet(name, rows):
    body = "".join(f"<table:table-row>{''.join(row)}</table:table-row>" for row in rows)
    return f'<table:table table:name="{name}">{body}</table:table>'


EMPTY = "<table:table-cell/>"
FIRST = [
    [text("grower"), text("share"), text("visited"), text("hives")],
    [text("Tolve 1"), percent(0.25), date("2024-04-24"), number(3)],
    [text("Tolve 2"), percent(0.5), date("2024-05-01"), number(4.5)],
    [text("Merra 1"), EMPTY, date("1969-12-31"), EMPTY],
]
SECOND = [[text("k"), text("v")], [number(1), text("one")], [number(2), text("two")]]

out = pathlib.Path(__file__).parent.parent / "data" / "sheet.ods"
out.parent.mkdir(exist_ok=True)
with zipfile.ZipFile(out, "w") as package:
    package.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
    package.writestr("META-INF/manifest.xml",
                     '<?xml version="1.0" encoding="UTF-8"?><manifest:manifest '
                     'xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" '
                     'manifest:version="1.2"><manifest:file-entry manifest:full-path="/" '
                     'manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/>'
                     '<manifest:file-entry manifest:full-path="content.xml" '
                     'manifest:media-type="text/xml"/></manifest:manifest>')
    package.writestr("content.xml", HEAD + sheet("visits", FIRST) + sheet("other", SECOND) + TAIL)
