"""Jobs: order, progress, stopping."""

import threading
import time
import unittest

from windfell.job import CORES, Cancelled, Job, Seats


class Jobs(unittest.TestCase):
    def test_results_come_in_order(self):
        def slow_first(n: int) -> int:
            time.sleep(0.02 if n == 0 else 0)
            return n * n

        self.assertEqual(Job().map(slow_first, list(range(9)), "squares"), [n * n for n in range(9)])
        streamed = list(Job().stream(slow_first, list(range(9)), "squares"))
        self.assertEqual(streamed, [(n, n * n) for n in range(9)])

    def test_items_may_be_added_while_others_are_worked_on(self):
        told, items, found = [], [1, 2, 3], []
        for n, result in Job(lambda p: told.append(p.fraction)).stream(
                lambda v: 10 * v, items, "growing", ordered=False, total=5):
            found.append(result)
            if items[n] < 3:
                items.append(items[n] + 3)
        self.assertEqual(sorted(found), [10, 20, 30, 40, 50])
        self.assertEqual(told, sorted(told))
        self.assertLess(max(told), 1)

    def test_stop_is_heard_while_a_worker_is_busy(self):
        gate, job = threading.Event(), Job()
        threading.Timer(0.1, job.stop).start()
        begun = time.monotonic()
        with self.assertRaises(Cancelled):
            job.map(lambda _: gate.wait(20), [1, 2, 3], "waiting")
        self.assertLess(time.monotonic() - begun, 5.0)
        gate.set()

    def test_stages_share_their_threads_and_may_stand_within_each_other(self):
        names, job = set(), Job()

        def inner(n: int) -> int:
            names.add(threading.current_thread().name)
            return n

        for _ in range(3):
            job.map(inner, [1, 2, 3], "one after another")
        self.assertLessEqual(len(names), CORES)
        nested = job.map(lambda n: sum(job.map(inner, [n, n], "within")), [1, 2, 3], "around")
        self.assertEqual(nested, [2, 4, 6])

    def test_jobs_with_seats_compute_few_at_once(self):
        seats, lock, sitting, most = Seats(2, wait=60), threading.Lock(), [], []

        def work(n: int) -> int:
            with lock:
                sitting.append(n)
                most.append(len(sitting))
            time.sleep(0.004)
            with lock:
                sitting.remove(n)
            return n

        jobs = [threading.Thread(target=Job(seats=seats).map, args=(work, range(12), "together")) for _ in range(4)]
        for thread in jobs:
            thread.start()
        for thread in jobs:
            thread.join()
        self.assertEqual((len(most), max(most)), (48, 2))
        most.clear()
        seats.use(1)
        Job(seats=seats).map(work, range(12), "by oneself")
        self.assertEqual(max(most), 1)

    def test_jobs_with_seats_never_wait_for_each_other_for_ever(self):
        seats, made = Seats(2), threading.Event()
        held = threading.Thread(target=Job(seats=seats).map, args=(lambda _: made.wait(20), range(2), "waits"))
        held.start()
        begun = time.monotonic()
        Job(seats=seats).map(lambda _: made.set(), [1], "makes what the others wait for")
        held.join()
        self.assertLess(time.monotonic() - begun, 10)

    def test_who_stood_frees_no_seat(self):
        seats = Seats(1)
        with seats.taken():
            for _ in range(2):
                begun = time.monotonic()
                with seats.taken():
                    self.assertGreater(time.monotonic() - begun, 0.2)
        begun = time.monotonic()
        with seats.taken():
            self.assertLess(time.monotonic() - begun, 0.2)

    def test_patient_work_takes_the_seats_that_are_left_for_it(self):
        seats, lock, sitting, most = Seats(3, wait=60, patient=60), threading.Lock(), [], {True: [0], False: [0]}

        def work(patient: bool) -> None:
            with lock:
                sitting.append(patient)
                most[patient].append(len(sitting))
            time.sleep(0.01)
            with lock:
                sitting.remove(patient)

        def all_at_once(*kinds: bool) -> None:
            threads = [
                threading.Thread(target=Job(seats=seats, patient=p).map, args=(lambda _, p=p: work(p), range(8), ""))
                for p in kinds for _ in range(3)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()

        seats.use(3, 1)
        all_at_once(True)
        self.assertEqual(max(most[True]), 1)
        all_at_once(True, False)
        self.assertEqual((max(most[True]), max(most[False])), (1, 3))
        seats.use(3)
        all_at_once(True)
        self.assertEqual(max(most[True]), 3)

    def test_what_waits_for_a_seat_is_not_begun_once_its_job_is_stopped(self):
        seats, gate, begun = Seats(1), threading.Event(), []
        held = threading.Thread(target=Job(seats=seats).map, args=(lambda _: gate.wait(20), [1], "sits"))
        held.start()
        job = Job(seats=seats)
        threading.Timer(0.05, job.stop).start()
        with self.assertRaises(Cancelled):
            job.map(begun.append, [1, 2, 3], "stands")
        gate.set()
        held.join()
        time.sleep(0.4)
        self.assertEqual(begun, [])

    def test_progress_tells_stage_and_fraction(self):
        told = []
        job = Job(told.append)
        for _ in job.over(range(4), "counting"):
            pass
        self.assertEqual((told[0].stage, told[0].fraction), ("counting", 0.0))

    def test_work_beside_is_done_while_nobody_waits_and_ends_when_stopped(self):
        for stops, expected in ((True, [1]), (False, [1, 2, 3])):
            with self.subTest(stops=stops):
                done, gate, ended, job = [], threading.Event(), threading.Event(), Job()

                def items(ended=ended):
                    try:
                        yield from (1, 2, 3)
                    finally:
                        ended.set()

                def one(n, done=done, gate=gate):
                    gate.wait(5)
                    done.append(n)

                job.beside(one, items())
                self.assertEqual(done, [])
                if stops:
                    job.stop()
                gate.set()
                self.assertTrue(ended.wait(5))
                self.assertEqual(done, expected)

    def test_an_error_in_a_worker_is_raised(self):
        with self.assertRaises(ZeroDivisionError):
            Job().map(lambda n: 1 // n, [1, 0], "dividing")
