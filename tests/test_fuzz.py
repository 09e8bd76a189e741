"""The fuzzers, for a short while and with a fixed seed."""

from tests import fuzzing
from tests.support import Case


class Fuzz(Case):
    def test_every_kind_of_file_ends_in_a_result_or_in_one_sentence(self):
        checked, let_in, wrong = fuzzing.run(self.folder, seed=1000, count=9 * len(fuzzing.KINDS))
        self.assertEqual(wrong, [])
        self.assertTrue(10 < let_in < checked - 10, f"{let_in} of {checked} were let in")
