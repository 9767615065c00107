"""The live view of a fetch: what is going on, in lines that never grow beyond the terminal."""

from __future__ import annotations

import io
import re
import unittest
from unittest import mock

from rellum.cli.views import fetch_progress
from rellum.cli.views.fetch_progress import FetchView
from rellum.core.fetching.model import FetchProgress, FileProgress


class Screen(io.StringIO):
    """A terminal that keeps what is written."""

    def isatty(self) -> bool:
        return True


def lines(written: str) -> list[str]:
    return re.sub(r"\x1b\[[0-9;]*[A-Za-z]|\r", "", written).splitlines()


class FetchViewTest(unittest.TestCase):
    def setUp(self) -> None:
        self.screen = Screen()
        self.enterContext(mock.patch("sys.stderr", self.screen))
        self.now = 100.0
        self.enterContext(mock.patch("time.monotonic", lambda: self.now))
        self.enterContext(
            mock.patch("shutil.get_terminal_size", return_value=mock.Mock(columns=100))
        )

    def show(self, view: FetchView, *files: FileProgress) -> list[str]:
        self.screen.truncate(0)
        self.screen.seek(0)
        view.show(FetchProgress(files=files))
        return lines(self.screen.getvalue())

    def test_bytes_rates_and_time_left(self) -> None:
        view = FetchView()
        old = FileProgress(name="done.zip", state="fetched", done=500_000, total=500_000)

        def file(done: int) -> FileProgress:
            return FileProgress(
                name="lamps.zip", state="fetching", done=done, total=1_000_000, words="a.invalid"
            )

        waiting = FileProgress(
            name="tides.zip", state="waiting", done=0, total=None, words="again in 9 s: busy"
        )
        self.show(view, old, file(0), waiting)
        self.now += 2
        whole, first, second = self.show(view, old, file(200_000), waiting)
        self.assertEqual(whole, "1 of 3 files  700.0 kB of at least 1.5 MB  100.0 kB/s  0:08 left")
        self.assertRegex(
            first, r"^  fetching  lamps.zip  20 %  .*100.0 kB/s  0:08 left +a.invalid$"
        )
        self.assertRegex(second, r"^  waiting   tides.zip .* again in 9 s: busy$")
        self.now += 0.01
        self.assertEqual(self.show(view, old, file(210_000), waiting), [])  # too soon

    def test_it_fits_and_goes_away(self) -> None:
        view = FetchView()
        files = [
            FileProgress(name="n" * 80 + str(n), state="waiting", done=1, total=9, words="w" * 90)
            for n in range(20)
        ]
        shown = self.show(view, *files)
        self.assertEqual(len(shown), 1 + fetch_progress.MOST_FILES)
        self.assertLess(max(map(len, shown)), 100)
        view.clear()
        self.assertTrue(self.screen.getvalue().endswith("\x1b[9A\r\x1b[J"))

    def test_names_cannot_steer_the_terminal(self) -> None:
        file = FileProgress(name="a\x1b[2Jb", state="fetching", done=1, total=2)
        self.show(FetchView(), file)
        self.assertNotIn("\x1b[2J", self.screen.getvalue())

    def test_silent_where_nobody_looks(self) -> None:
        with mock.patch("sys.stderr", io.StringIO()) as quiet:
            view = FetchView()
            view.show(FetchProgress(files=()))
            view.clear()
            self.assertEqual(quiet.getvalue(), "")


if __name__ == "__main__":
    unittest.main()
