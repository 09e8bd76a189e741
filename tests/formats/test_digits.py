"""Numbers as text by planes of digits, against Python's own formatting."""

import unittest
from decimal import ROUND_HALF_EVEN, Decimal

import numpy as np

from tests.support import Case
from young_marionette.formats.bvh.digits import rows_of_text


class Digits(Case):
    def same(self, table, decimals):
        """The same text as ``%.6f``, or the other neighbour where a number lies in the middle but for rounding."""
        got = rows_of_text(table, decimals).decode().split("\n")
        self.assertEqual(got.pop(), "")
        for line, row in zip(got, table, strict=True):
            for text, value, count in zip(line.split(" "), row, decimals, strict=True):
                plain = f"{value:.{count}f}"
                if text != plain.replace("-0." + "0" * count, "0." + "0" * count):
                    self.assertRegex(text, r"^-?(0|[1-9]\d*)(\.\d+)?$")
                    exact = Decimal(float(value))
                    step = Decimal(1).scaleb(-int(count))
                    self.assertLessEqual(
                        abs(Decimal(text) - exact), step * Decimal("0.5000001") + abs(exact) * Decimal("1e-15")
                    )
                    self.assertEqual(Decimal(text).quantize(step, ROUND_HALF_EVEN), Decimal(text))

    def test_numbers_of_all_sizes(self):
        rng = np.random.default_rng(8)
        for size in (1e-7, 1e-3, 1, 180, 1e5, 1e8):
            decimals = rng.integers(0, 8, 7)
            self.same(rng.normal(0, size, (60, 7)), decimals)

    def test_edges(self):
        values = [
            0.0,
            -0.0,
            1.0,
            -1.0,
            9.9999999,
            -9.9999999,
            0.5,
            1.5,
            2.5,
            1e-9,
            -1e-9,
            99.9999995,
            123456789.125,
            10.0,
        ]
        for count in (0, 1, 4, 6, 9, 12):
            self.same(np.array([values]), np.full(len(values), count))
        self.assertEqual(rows_of_text(np.array([[-0.0000001]]), np.array([6])), b"0.000000\n")
        self.assertEqual(rows_of_text(np.array([[-7.0], [70.0]]), np.array([0])), b"-7\n70\n")

    def test_too_large_for_planes(self):
        self.assertEqual(rows_of_text(np.array([[1e13, -2.5]]), np.array([6, 2])), b"10000000000000.000000 -2.50\n")

    def test_nothing(self):
        self.assertEqual(rows_of_text(np.zeros((0, 3)), np.array([6, 6, 6])), b"")


if __name__ == "__main__":
    unittest.main()
