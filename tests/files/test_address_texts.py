"""Columns of addresses read at once, against one text after the other."""

import ipaddress
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyarrow as pa
from hypothesis import example, given
from hypothesis import strategies as st

from kiboko.core.header.addresses import Address
from kiboko.files.logs import address_texts
from kiboko.files.logs.address_texts import AddressTexts, parse_ipv4
from kiboko.files.logs.flow_reader import tables_of

FOUR = st.ip_addresses(v=4).map(str)
TEXTS = st.lists(
    st.one_of(
        st.none(), FOUR, FOUR.map(lambda text: f" {text} "), FOUR.map(lambda text: text + "\0"),
        st.ip_addresses(v=6).map(str), st.from_regex(r"[0-9.]{1,16}", fullmatch=True), st.text(max_size=20),
        st.text("0f:", min_size=36, max_size=42), st.text("0 \0", min_size=14, max_size=80),
    ),
    max_size=30,
)  # fmt: skip


def known(text):
    """The address that a text is, by itself and by the standard library; None for none."""
    try:
        found = ipaddress.ip_address(text.strip()) if text else None
    except ValueError:
        return None
    if getattr(found, "scope_id", None):
        return None
    found = getattr(found, "ipv4_mapped", None) or found
    return Address(found.version, int(found)) if found is not None else None


class Reading(unittest.TestCase):
    @given(TEXTS)
    @example(["::ffff:10.1.2.3", "::FFFF:0:0", "0:0:0:0:0:ffff:a01:203", "::ffff:0:10.1.2.3", "::fffe:10.1.2.3"])
    @example(
        ["0.0.0.0", "255.255.255.255", "256.1.1.1", "1.2.3", "1.2.3.4.5", "01.2.3.4", "1..2.3", ".1.2.3", "1.2.3."]
    )
    def test_addresses_read_all_at_once_are_those_read_one_by_one(self, texts):
        given_texts = [text for text in texts if text is not None]
        values, good = parse_ipv4(pa.array(given_texts, pa.string()))
        for text, value, is_good in zip(given_texts, values.tolist(), good.tolist(), strict=True):
            if is_good:
                self.assertEqual((known(text).family, known(text).value), (4, value))
            else:
                self.assertTrue(known(text) is None or ":" in text or text != text.strip(), text)

    def test_one_address_written_in_several_ways_is_one_in_whatever_table_it_comes(self):
        texts, reader = ["2001:db8:0:0:0:0:0:1", "2001:0db8::0:0:0:0:1", "2001:db8:0:0::0:0:2"], AddressTexts()
        met = []
        for some in (texts[:1], texts, texts[1:]):
            addresses, (codes,) = reader.table([pa.chunked_array([pa.array(some, pa.string())])])
            self.assertEqual([addresses[code] for code in codes.tolist()], [known(text) for text in some])
            met.append(codes.tolist())
        self.assertEqual(met[1][0], met[1][1])
        self.assertEqual((met[0][0], met[2]), (met[1][0], met[1][1:]))

    @given(TEXTS, TEXTS, st.integers(1, 7))
    def test_columns_of_any_kind_give_each_row_its_address(self, one, two, cut):
        pieces = [one[at : at + cut] for at in range(0, len(one), cut)]
        octets = [[None if text is None else text.encode() for text in piece] for piece in pieces]
        columns = [
            pa.chunked_array([pa.array(piece, pa.binary()) for piece in octets], pa.binary()),
            pa.chunked_array([pa.array(two, pa.string())]),
            pa.chunked_array([pa.array(piece, pa.string()) for piece in pieces], pa.string()).dictionary_encode(),
        ]
        addresses, found = AddressTexts().table(columns)
        for texts, codes in zip((one, two, one), found, strict=True):
            self.assertEqual([addresses[code] if code else None for code in codes.tolist()], [known(t) for t in texts])

    @given(st.lists(TEXTS, min_size=1, max_size=5), st.sampled_from([3, 1 << 16]))
    def test_what_was_read_before_changes_nothing(self, batches, most):
        reader = AddressTexts()
        with mock.patch.object(address_texts, "_MOST_KEPT", most):
            for texts in batches:
                addresses, (codes,) = reader.table([pa.chunked_array([pa.array(texts, pa.string())])])
                read = [addresses[code] if code else None for code in codes.tolist()]
                self.assertEqual(read, [known(text) for text in texts])

    def test_octets_that_are_no_text_are_no_address(self):
        addresses, (codes,) = AddressTexts().table([pa.chunked_array([[b"10.1.1.\xff", b"\xff" * 30, b"10.1.1.1"]])])
        self.assertEqual(codes.tolist()[:2], [0, 0])
        self.assertEqual(str(addresses[codes[2]]), "10.1.1.1")

    def test_no_columns_and_no_rows(self):
        self.assertEqual(AddressTexts().table([])[1], [])
        _, (codes,) = AddressTexts().table([pa.chunked_array([], pa.string())])
        self.assertEqual(len(codes), 0)


class Typed(unittest.TestCase):
    """Addresses as other writers of Parquet and Arrow keep them."""

    def read(self, source, destination):
        import pyarrow.parquet

        rest = {
            "protocolIdentifier": pa.array([6, 6, 6], pa.int32()),
            "destinationTransportPort": pa.array([22, 22, 22]),
        }
        table = pa.table({"src": source, "dst": destination, **rest})
        with tempfile.TemporaryDirectory() as folder:
            pyarrow.parquet.write_table(table, Path(folder, "log.parquet"))
            with pa.ipc.new_stream(Path(folder, "log.arrows"), table.schema) as writer:
                writer.write_table(table)
            found = []
            for name in ("log.parquet", "log.arrows"):
                tables = [each for each, _ in tables_of(Path(folder, name))]
                records = [each.record(row) for each in tables for row in range(len(each))]
                found.append([(str(r.source), str(r.destination)) for r in records])
        self.assertEqual(*found)
        return found[0]

    def test_numbers_with_and_without_a_sign(self):
        # 10.1.2.3 is 10·2^24 + 1·2^16 + 2·2^8 + 3, and 203.0.113.17 with a sign is that less 2^32.
        source = pa.array([167838211, 167838212, 167838213], pa.uint32())
        destination = pa.array([3405803793 - (1 << 32)] * 3, pa.int32())
        self.assertEqual(self.read(source, destination), [(f"10.1.2.{3 + n}", "203.0.113.17") for n in range(3)])

    def test_octets_of_both_families(self):
        four = [b"\x0a\x01\x02\x03", b"\x0a\x01\x02\x04", b"ABCD"]
        wanted = [("10.1.2.3", "10.1.2.3"), ("10.1.2.4", "10.1.2.4"), ("65.66.67.68", "65.66.67.68")]
        self.assertEqual(self.read(pa.array(four, pa.binary(4)), pa.array(four, pa.binary())), wanted)
        six = [bytes.fromhex("20010db8000000000000000000000009")] * 3
        self.assertEqual(self.read(pa.array(six, pa.binary(16)), pa.array(six, pa.binary())),
                         [("2001:db8::9", "2001:db8::9")] * 3)  # fmt: skip

    def test_octets_that_are_texts_stay_texts(self):
        texts = [b"10.1.2.3", b"2001:db8::9", b"::12"]
        self.assertEqual(self.read(pa.array(texts, pa.binary()), pa.array(texts, pa.binary())),
                         [(each.decode(), each.decode()) for each in texts])  # fmt: skip


if __name__ == "__main__":
    unittest.main()
