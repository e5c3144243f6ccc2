"""A lab's file in whatever shape it comes: encodings, separators, marks, workbooks, headings; and files meant to hurt."""

import csv
import io
import json
import struct
import zipfile
from datetime import date

import numpy as np
import pytest
import xlsxwriter
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from vornet.core.errors import InputError
from vornet.core.measurands import INDEX
from vornet.io import cells, lab_header, lab_table, results_file
from vornet.io.lab_header import Meaning
from vornet.io.results_file import NeedsMapping

FE, CA, V100, WATER = INDEX["fe"], INDEX["ca"], INDEX["v100"], INDEX["water_ppm"]


def read(content: bytes, said=None):
    [chunk] = results_file.chunks(results_file.open_file(content, said))
    return chunk


def sheet(rows, *, name="Results", before=()) -> bytes:
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True})
    for other in before:
        book.add_worksheet(other)
    page = book.add_worksheet(name)
    for r, row in enumerate(rows):
        for c, cell in enumerate(row):
            if isinstance(cell, date):
                page.write_datetime(r, c, cell, book.add_format({"num_format": "dd.mm.yyyy"}))
            else:
                page.write(r, c, cell)
    book.close()
    return out.getvalue()


def ods(rows) -> bytes:
    """The smallest OpenDocument spreadsheet (OASIS ODF 1.2) that holds these texts."""
    space = (
        'xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" '
        'xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"'
    )
    body = "".join(
        "<table:table-row>"
        + "".join(f'<table:table-cell office:value-type="string"><text:p>{c}</text:p></table:table-cell>' for c in row)
        + "</table:table-row>"
        for row in rows
    )
    content = (
        f'<?xml version="1.0" encoding="UTF-8"?><office:document-content {space} office:version="1.2"><office:body>'
        f'<office:spreadsheet><table:table table:name="R">{body}</table:table></office:spreadsheet></office:body></office:document-content>'
    )
    manifest = (
        '<?xml version="1.0"?><manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">'
        '<manifest:file-entry manifest:full-path="/" manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/>'
        "</manifest:manifest>"
    )
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as pack:
        pack.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        pack.writestr("content.xml", content)
        pack.writestr("META-INF/manifest.xml", manifest)
    return out.getvalue()


TEXT = "sample_no;unit;compartment;sampled_on;Fe (ppm);Visc @ 100 °C;Wasser µg\nS1;MV Test;engine;05.01.2026;12,5;14,21;\n"


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "cp1252"])
def test_every_common_encoding_reads_the_same(encoding):
    chunk = read(TEXT.encode(encoding))
    assert (chunk.values[0, FE], chunk.values[0, V100]) == (12.5, 14.21)
    assert chunk.sampled_on == [date(2026, 1, 5)]


def test_a_file_that_mixes_encodings_keeps_both():
    content = "sample_no,unit,sampled_on,fe,comment\nS1,Bjørk,2026-01-05,3,µ\n".encode() + "S2,Bjørk,2026-01-05,4,grå\n".encode("cp1252")
    chunk = read(content)
    assert chunk.text["unit"] == ["Bjørk", "Bjørk"]
    assert chunk.text["comment"] == ["µ", "grå"]


@pytest.mark.parametrize("separator", [",", ";", "\t", "|"])
def test_the_separator_is_the_one_that_makes_headings(separator):
    rows = [["sample_no", "unit", "sampled_on", "fe", "comment"], ["S1", "U", "2026-01-05", "7", "a;b,c|d\te"]]
    out = io.StringIO()
    csv.writer(out, delimiter=separator).writerows(rows)
    chunk = read(out.getvalue().encode())
    assert chunk.values[0, FE] == 7
    assert chunk.text["comment"] == ["a;b,c|d\te"]


def test_headings_below_a_title_and_units_in_a_row_of_their_own():
    content = b"Some lab, report 7\n\nSample No.,Equipment,Date sampled,Fe,Calcium,Visc 100,Water\n,,,ppm,%,cSt,%\n"
    content += b"S1,MV Test,2026-01-05,12,0.24,14.2,0.02\n"
    file = results_file.open_file(content)
    assert file.header_row == 3
    [chunk] = results_file.chunks(file)
    assert chunk.row_no == [5]
    assert chunk.values[0, [FE, CA, V100, WATER]].tolist() == pytest.approx([12, 2400, 14.2, 200])


def test_a_first_row_of_values_is_not_taken_for_units():
    chunk = read(b"sample_no,unit,sampled_on,fe,cr\nS1,U,2026-01-05,3,1\nS2,U,2026-01-06,4,2\n")
    assert chunk.values[:, FE].tolist() == [3, 4]


@pytest.mark.parametrize(("text", "comma", "value"), [
    ("1.234,5", True, 1234.5), ("1.234", True, 1234.0), ("1,234", True, 1.234), ("1,234", False, 1234.0), ("12,5", False, 12.5),
    ("1.234", False, 1.234), ("-3,2", True, -3.2), ("1e3", False, 1000.0), (" 7 ", False, 7.0),
])  # fmt: skip
def test_numbers_by_the_files_own_mark(text, comma, value):
    assert cells.read_number(text, comma) == (value, "")


@pytest.mark.parametrize(
    ("text", "value", "sign"),
    [("<0,5", 0.5, "<"), ("< 1", 1, "<"), (">100", 100, ">"), ("≤2", 2, "<"), ("≥ 9", 9, ">")],
)
def test_qualifiers_are_kept(text, value, sign):
    assert cells.read_number(text, True) == (value, sign)


@pytest.mark.parametrize("text", ["NaN", "inf", "1e308", "=1+1", "12 mg", "1.2.3", "--1", "0x10", "１２a"])
def test_what_is_no_result_is_said_to_be_none(text):
    assert isinstance(cells.read_number(text), str)


@pytest.mark.parametrize("text", ["", "ND", "n/a", "-", "not tested", "NULL"])
def test_not_measured_is_not_a_number(text):
    value, sign = cells.read_number(text)
    assert value != value
    assert sign == ""


def test_dates_in_three_styles_in_one_file():
    chunk = read(b"sample_no,unit,sampled_on,fe\nA,U,2026-01-05,1\nB,U,5.1.2026,1\nC,U,05/01/2026,1\nD,U,5 Jan 2026,1\nE,U,31/12/2025,1\n")
    assert chunk.sampled_on == [date(2026, 1, 5)] * 4 + [date(2025, 12, 31)]


def test_month_first_is_told_from_the_files_own_days():
    chunk = read(b"sample_no,unit,sampled_on,fe\nA,U,01/05/2026,1\nB,U,12/31/2025,1\n")
    assert chunk.sampled_on == [date(2026, 1, 5), date(2025, 12, 31)]


@pytest.mark.parametrize("cell", ["31.02.2026", "2026-13-01", "yesterday", "1/1/26", "0001-01-01", "9999-01-01"])
def test_a_day_that_is_none_holds_its_row(cell):
    [chunk] = results_file.chunks(results_file.open_file(f"sample_no,unit,sampled_on,fe\nA,U,{cell},1\nB,U,2026-01-05,1\n".encode()))
    assert [(b.row_no, b.field, b.reason) for b in chunk.bad] == [(2, "sampled_on", "bad_date")]
    assert chunk.text["sample_no"] == ["B"]


def test_a_workbook_with_text_cells_decimal_commas_and_less_than():
    chunk = read(sheet([["Report"], ["Sample No.", "Equipment", "Date sampled", "Fe (ppm)", "TBN", "Water (ppm)"],
                        ["S1", "MV Test", "05.01.2026", "12,5", "8,25", "<50"]], before=["Notes"]))  # fmt: skip
    assert (chunk.values[0, FE], chunk.values[0, INDEX["bn"]], chunk.values[0, WATER]) == (12.5, 8.25, 50)
    assert chunk.below[0] == 1 << WATER
    assert chunk.row_no == [3]


def test_a_workbook_with_typed_cells():
    chunk = read(
        sheet(
            [
                ["sample_no", "unit", "sampled_on", "fe", "drained", "meter"],
                [17, "U", date(2026, 1, 5), 12.25, True, 1200.0],
            ]
        )
    )
    assert chunk.text["sample_no"] == ["17"]
    assert chunk.sampled_on == [date(2026, 1, 5)]
    assert (chunk.values[0, FE], chunk.drained, chunk.numbers["meter"][0]) == (12.25, [True], 1200)


def test_a_formula_in_a_workbook_is_its_result_and_in_text_is_no_number():
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True})
    page = book.add_worksheet()
    for c, name in enumerate(("sample_no", "unit", "sampled_on", "fe")):
        page.write(0, c, name)
    for c, cell in enumerate(("S1", "U", "2026-01-05")):
        page.write(1, c, cell)
    page.write_formula(1, 3, "=40+2", value=42)
    book.close()
    assert read(out.getvalue()).values[0, FE] == 42
    [chunk] = results_file.chunks(results_file.open_file(b"sample_no,unit,sampled_on,fe\nS1,U,2026-01-05,=40+2\n"))
    assert "'=40+2' is not a number" in chunk.bad[0].detail


def test_an_open_document_sheet():
    chunk = read(
        ods(
            [
                ["sample_no", "unit", "sampled_on", "fe"],
                ["S1", "U", "2026-01-05", "12,5"],
                ["S2", "U", "2026-01-06", "9,5"],
            ]
        )
    )
    assert chunk.values[:, FE].tolist() == [12.5, 9.5]


def test_json_flat_and_nested():
    rows = [
        {"sample_no": "S1", "unit": "U", "sampled_on": "2026-01-05", "fe": 3},
        {"sample_no": "S2", "unit": "U", "sampled_on": "2026-01-06", "values": {"fe": 4, "water_ppm": "<50"}},
    ]
    for document in (rows, {"samples": rows}, {"results": rows}):
        chunk = read(json.dumps(document).encode())
        assert chunk.values[:, FE].tolist() == [3, 4]
        assert chunk.below.tolist() == [0, 1 << WATER]


def test_a_long_file_whatever_its_order():
    lines = ["Bottle,Asset,Date drawn,Parameter,Result,Unit", "S1,U,05/01/2026,FE,12,ppm", "S2,U,06/01/2026,FE,13,ppm",
             "S1,U,05/01/2026,Calcium,0.24,%", "S2,U,06/01/2026,Oxidation,0.08,A/0.1mm", "S1,U,05/01/2026,Water,<0.005,%"]  # fmt: skip
    chunk = read("\n".join(lines).encode())
    assert chunk.text["sample_no"] == ["S1", "S2"]
    assert chunk.row_no == [2, 3]
    assert chunk.values[0, [FE, CA, WATER]].tolist() == pytest.approx([12, 2400, 50])
    assert chunk.values[1, INDEX["oxidation"]] == pytest.approx(8)
    assert chunk.below.tolist() == [1 << WATER, 0]


def test_headings_that_nobody_knows_wait_for_a_person_and_are_read_once_explained():
    content = "Prøve;Maskin;Uttatt;Jern mg/kg;Kalsium %\nP1;MV Test;05.01.2026;12,5;0,24\n".encode("cp1252")
    with pytest.raises(NeedsMapping):
        results_file.open_file(content)
    guess = results_file.guess(io.BytesIO(content))
    assert guess.names == ["Prøve", "Maskin", "Uttatt", "Jern mg/kg", "Kalsium %"]
    assert guess.row == 1
    said = {"prøve": Meaning("sample_no"), "maskin": Meaning("unit"), "uttatt": Meaning("sampled_on"), "jern mg/kg": Meaning("fe", "ppm"),
            "kalsium %": Meaning("ca", "%")}  # fmt: skip
    chunk = read(content, said)
    assert chunk.values[0, [FE, CA]].tolist() == pytest.approx([12.5, 2400])
    assert chunk.text["unit"] == ["MV Test"]


def test_a_heading_left_out_is_neither_unknown_nor_read():
    header = lab_header.read_header(["sample_no", "fe", "Room temperature"], {"room temperature": Meaning("")})
    assert (header.unknown, header.left_out) == ([], ["Room temperature"])


def test_what_a_person_said_wins_over_the_common_meaning():
    header = lab_header.read_header(["sample_no", "Fe"], {"fe": Meaning("cr", "ppm")})
    assert [m for m, _, _ in header.measurands] == [INDEX["cr"]]


# ---- files meant to hurt ---------------------------------------------------------------------------------


def refused(content: bytes) -> str:
    with pytest.raises(InputError) as told:
        list(results_file.chunks(results_file.open_file(content)))
    return str(told.value)


def test_nothing_at_all():
    assert "is empty" in refused(b"")
    assert "is empty" in refused(b" \n \n")


@pytest.mark.parametrize("content", [b"%PDF-1.7 ...", b"\x89PNG\r\n\x1a\n\x00\x00", b"\x00" * 100, b"just words\nand more\n"])
def test_what_is_no_table_is_refused_in_a_sentence(content):
    assert len(refused(content)) > 15


def test_a_workbook_that_is_cut_off():
    whole = sheet([["sample_no", "unit", "sampled_on", "fe"], ["S1", "U", "2026-01-05", 3]])
    assert "cut off or damaged" in refused(whole[: len(whole) // 2])
    assert "can be read" in refused(b"PK\x05\x06" + b"\x00" * 18)  # an empty archive


@pytest.mark.slow
def test_an_archive_that_unpacks_to_a_thousand_times_its_size():
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as pack:
        pack.writestr("[Content_Types].xml", "<x/>")
        with pack.open("xl/worksheets/sheet1.xml", "w", force_zip64=True) as member:
            for _ in range(350):
                member.write(b"0" * 1_000_000)
    assert "unpacks to more than" in refused(out.getvalue())


@pytest.mark.slow
def test_an_archive_whose_directory_lies_about_its_size():
    out = io.BytesIO()
    with (
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as pack,
        pack.open("xl/sheet.xml", "w") as member,
    ):
        for _ in range(350):
            member.write(b"0" * 1_000_000)
    content = bytearray(out.getvalue())
    central = content.rindex(b"PK\x01\x02")
    content[central + 24 : central + 28] = struct.pack("<I", 100)  # says it unpacks to 100 bytes
    assert "unpacks to more than" in refused(bytes(content))


def test_a_workbook_with_a_cell_at_the_far_corner_takes_nothing_with_it():
    """Read densely, one cell in the last row and column would take hundreds of gigabytes."""
    good = sheet([["sample_no", "unit", "sampled_on", "fe"], ["S1", "U", "2026-01-05", 3]])
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(good)) as source, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as target:
        for info in source.infolist():
            text = source.read(info)
            if info.filename == "xl/worksheets/sheet1.xml":
                far = b'<row r="1048576"><c r="XFD1048576"><v>1</v></c></row></sheetData>'
                text = text.replace(b"</sheetData>", far)
            target.writestr(info, text)
    assert "too large to read" in refused(out.getvalue()) or "can be read" in refused(out.getvalue())


def test_a_million_columns_and_a_line_without_end():
    assert "longer than" in refused(b"sample_no," + b"x," * 1_000_000 + b"\n1\n")
    assert "at most 400" in refused(b"sample_no,fe," + b"x," * 600 + b"\n1\n")


def test_a_quote_that_never_closes():
    [chunk] = results_file.chunks(results_file.open_file(b'sample_no,unit,sampled_on,fe\nA,U,2026-01-05,1\nB,"U,2026-01-05,1\n'))
    assert chunk.text["sample_no"] == ["A", "B"]
    assert chunk.sampled_on[1] is None  # held later: the day was swallowed by the quote


@settings(max_examples=150, suppress_health_check=[HealthCheck.too_slow])
@given(
    st.binary(max_size=400),
    st.sampled_from([b"", b"sample_no,unit,sampled_on,fe\n", b"sample_no;fe;x\r\n", b'{"samples":', b"[{", b"\xff\xfe"]),
)
def test_any_bytes_are_rows_or_one_refusal(tail, head):
    try:
        for chunk in results_file.chunks(results_file.open_file(head + tail)):
            assert len(chunk.text["sample_no"]) == len(chunk.values)
            assert not np.isinf(chunk.values).any()
            assert (np.abs(np.nan_to_num(chunk.values)) <= cells.LARGEST).all()
            assert all(b.detail and b.reason for b in chunk.bad)
    except InputError as refusal:
        said = str(refusal)
    else:
        said = "read"
    assert said


@settings(max_examples=60)
@given(st.lists(st.tuples(st.text("ABC123-", min_size=1, max_size=6), st.floats(0, 5000, allow_nan=False).map(lambda x: round(x, 2)),
                          st.sampled_from(["", "<", ">"])), min_size=1, max_size=12), st.booleans())  # fmt: skip
def test_what_is_written_is_read_back(rows, comma):
    mark = "," if comma else "."
    lines = ["sample_no;unit;sampled_on;fe"] + [f"{n};U;2026-01-05;{s}{str(v).replace('.', mark)}" for n, v, s in rows]
    lines.append(f"Z;U;2026-01-05;0{mark}5")  # a file tells its mark when it has one number with it
    chunk = read("\n".join(lines).encode())
    assert chunk.values[:-1, FE].tolist() == pytest.approx([v for _, v, _ in rows])
    assert [bool(b) for b in chunk.below[:-1]] == [s == "<" for _, _, s in rows]
    assert [bool(a) for a in chunk.above[:-1]] == [s == ">" for _, _, s in rows]


def test_a_table_is_read_as_a_stream():
    """The reader asks for a line at a time: what it holds does not grow with the file."""

    class Endless(io.RawIOBase):
        taken = 0

        def readable(self):
            return True

        def seekable(self):
            return True

        def seek(self, offset, whence=0):
            self.taken = offset
            return offset

        def readinto(self, buffer):
            line = b"S%09d,U,2026-01-05,1\n"
            text = b"".join(line % (self.taken // 26 + i) for i in range(len(buffer) // 26 + 1))[: len(buffer)]
            if self.taken == 0:
                text = (b"sample_no,unit,sampled_on,fe\n" + text)[: len(buffer)]
            buffer[: len(text)] = text
            self.taken += len(text)
            return len(text)

    source = Endless()
    table = lab_table.open_table(io.BufferedReader(source, 65536))
    rows = [next(table.rows) for _ in range(1000)]
    assert rows[0][1][0] == "sample_no"
    assert source.taken < 400_000
