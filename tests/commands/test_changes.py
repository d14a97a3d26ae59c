"""`compare` and `rehearse` as they are called."""

import json

from tests.helpers import OnTheDemo
from tests.helpers import kiboko as run


class Changes(OnTheDemo):
    def test_a_file_and_itself_differ_in_nothing(self):
        text = self.kiboko("compare network.yaml network.yaml", 0)
        self.assertTrue(text.startswith("0 differences in what the files say; no verdict changes."), text)

    def test_each_line_to_paste_comes_to_the_verdict_that_its_line_says(self):
        rows = json.loads(self.kiboko("compare network.yaml clean/network.yaml --service ssh --json", 1))["rows"]
        self.assertGreater(len(rows), 3)
        for row in rows:
            with self.subTest(row["check"]):
                done = run(*row["check"].split()[1:], f"-{row['family']}", "--json", cwd=self.folder)
                self.assertEqual(row["after"], json.loads(done.stdout)["verdict"])
                old = row["check"].replace(" -n clean/network.yaml", "")
                before = run(*old.split()[1:], f"-{row['family']}", "--json", cwd=self.folder)
                self.assertEqual(row["before"], json.loads(before.stdout)["verdict"])

    def test_a_rule_switched_off_closes_mends_promises_and_ends_findings(self):
        found = json.loads(self.kiboko(
            "rehearse --toggle bank-edge/inbound/20 --file expectations.yaml --service ssh --json", 1))  # fmt: skip
        self.assertEqual({"closed"}, {row["kind"] for row in found["rows"]})
        turned = {each["id"] for each in found["expectations"] if each["before"] != each["after"]}
        self.assertEqual({"relays-not-open", "scanner-shut-out"}, turned)
        ended = {each["finding"] for each in found["findings"] if each["change"] == "ended"}
        self.assertLessEqual({"open-administration", "contradicted-rule"}, ended)
        for row in found["rows"]:
            self.assertIn("--without bank-edge/inbound/20", row["check"])
            done = run(*row["check"].split()[1:], f"-{row['family']}", "--json", cwd=self.folder)
            self.assertEqual(row["after"], json.loads(done.stdout)["verdict"], row["check"])

    def test_the_mended_network_breaks_nothing(self):
        text = self.kiboko("rehearse clean/network.yaml --file expectations.yaml --top 2", 0)
        self.assertIn("0 broken by it, 5 mended by it", text)

    def test_questions_that_mean_nothing_are_refused(self):
        for line, text in (
            ("rehearse", "say what is to change"),
            ("rehearse clean/network.yaml --toggle bank-edge/20", "say what is to change"),
            ("rehearse --toggle bank-egde/20", "did you mean 'bank-edge'"),
            ("rehearse --toggle bank-edge/99", "has no rule '99'"),
            ("compare network.yaml missing.yaml", "no such network file"),
            ("compare network.yaml evidence/flows.csv", "flows.csv"),
            ("compare network.yaml clean/network.yaml --service sssh", "'sssh' is not defined"),
        ):
            with self.subTest(line):
                told = self.kiboko(line, 2)
                self.assertIn(text, told)
                self.assertNotIn("Traceback", told)
