"""What threads of work leave behind, and what they tell, is dealt with in the interface thread."""

import gc
import threading
import time
import unittest
import weakref

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication

from tests.app.harness import application
from young_marionette.app.jobs import Job


def wait(true, seconds=20):
    end = time.monotonic() + seconds
    while not true() and time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.001)
    return true()


class Threads(unittest.TestCase):
    def setUp(self):
        application()
        self.ended = []

    def watch(self, thing):
        weakref.finalize(thing, lambda: self.ended.append(threading.current_thread().name))

    def test_garbage_of_qt_is_collected_in_the_interface_thread(self):
        """However many objects a thread makes."""
        for _ in range(30):
            thing = QObject()
            thing.ring = thing
            self.watch(thing)
        del thing

        def work():
            for _ in range(20):
                kept = [[] for _ in range(5000)]
                kept.append(kept)

        thread = threading.Thread(target=work)
        thread.start()
        thread.join()
        self.assertEqual(self.ended, [])
        for _ in range(1000):
            made = []
            made.append(made)
        self.assertTrue(wait(lambda: len(self.ended) == 30))
        self.assertEqual(set(self.ended), {"MainThread"})

    def test_a_job_that_nobody_keeps_tells_all_and_ends_in_the_interface_thread(self):
        told, threads = [], set()

        def hear(value):
            told.append(value)
            threads.add(threading.current_thread().name)

        for number in range(60):
            job = Job("count", lambda _progress, number=number: number)
            job.finished.connect(hear)
            job.ended.connect(lambda: hear("end"))
            self.watch(job)
            job.start()
        del job
        self.assertTrue(wait(lambda: len(told) == 120))
        self.assertEqual(sorted(t for t in told if t != "end"), list(range(60)))

        def all_ended():
            gc.collect()
            return len(self.ended) >= 59  # psygnal may keep what told something last

        self.assertTrue(wait(all_ended))
        self.assertEqual(threads | set(self.ended), {"MainThread"})


if __name__ == "__main__":
    unittest.main()
