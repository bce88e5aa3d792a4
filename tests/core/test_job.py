"""Jobs: order, progress, stopping."""

import threading
import time
import unittest

from windfell.job import Cancelled, Job


class Jobs(unittest.TestCase):
    def test_results_come_in_order(self):
        def slow_first(n: int) -> int:
            time.sleep(0.02 if n == 0 else 0)
            return n * n

        self.assertEqual(Job().map(slow_first, list(range(9)), "squares"), [n * n for n in range(9)])
        streamed = list(Job().stream(slow_first, list(range(9)), "squares"))
        self.assertEqual(streamed, [(n, n * n) for n in range(9)])

    def test_stop_is_heard_while_a_worker_is_busy(self):
        gate, job = threading.Event(), Job()
        threading.Timer(0.1, job.stop).start()
        begun = time.monotonic()
        with self.assertRaises(Cancelled):
            job.map(lambda _: gate.wait(5), [1, 2, 3], "waiting")
        self.assertLess(time.monotonic() - begun, 0.5)
        gate.set()

    def test_progress_tells_stage_and_fraction(self):
        told = []
        job = Job(told.append)
        for _ in job.over(range(4), "counting"):
            pass
        self.assertEqual((told[0].stage, told[0].fraction), ("counting", 0.0))

    def test_an_error_in_a_worker_is_raised(self):
        with self.assertRaises(ZeroDivisionError):
            Job().map(lambda n: 1 // n, [1, 0], "dividing")
