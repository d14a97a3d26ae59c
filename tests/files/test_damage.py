"""A short run of what `make fuzz` does for ten minutes."""

import unittest

from tests.fuzz import run


class Damage(unittest.TestCase):
    def test_nothing_damaged_raises_anything_but_an_input_error(self):
        tried = run(3, 1)
        self.assertGreater(tried["datagrams"], 50)
        self.assertGreater(tried["files"], 5)


if __name__ == "__main__":
    unittest.main()
