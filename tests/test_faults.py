"""Every fault is found in its phase, and sound disks raise no alarm."""

import unittest

from tests.faults import NEEDED, every_case
from tests.support import needs


class Faults(unittest.TestCase):
    @needs(*NEEDED)
    def test_each_fault_leads_to_its_finding_and_phase(self):
        rows = every_case()
        self.assertGreater(len(rows), 50)
        self.assertEqual([(name, wrong) for name, wrong, _ in rows if wrong], [])
        self.assertEqual([(name, alarms) for name, _, alarms in rows if alarms], [])


if __name__ == "__main__":
    unittest.main()
