"""What two heartbeats of the screen mean, tick by tick, with a clock of the test's own."""

import unittest

from pivrex.session.screen_watch import ScreenWatch, Verdict


class ScreenWatchTest(unittest.TestCase):
    def told(
        self,
        seconds: float,
        *,
        process: bool,
        hands: bool,
        live: bool,
        by_hand: bool = False,
        only_simulated: bool = False,
    ) -> list[tuple[float, Verdict]]:
        """A second in which all is well, then what does not go on stands still; gives what is said, at which time after that."""
        watch, found = ScreenWatch(), []
        for n in range(60, 60 + round((1.0 + seconds) * 60)):
            over = n - 120
            lives, beats = (n if goes_on or over < 0 else 120 for goes_on in (process, hands))
            found.append((over / 60, watch.look(n / 60, lives, beats, live, by_hand, only_simulated)))
        return found

    def stops_at(self, **how: bool) -> float:
        said = [(t, v) for t, v in self.told(3.0, live=True, **how) if v.stop]
        return said[0][0] if said else float("inf")

    def test_live_a_process_that_stands_stops_within_a_quarter_of_a_second(self) -> None:
        for by_hand in (False, True):
            self.assertAlmostEqual(self.stops_at(process=False, hands=True, by_hand=by_hand), 0.25, delta=0.02)
            self.assertAlmostEqual(self.stops_at(process=False, hands=False, by_hand=by_hand), 0.25, delta=0.02)

    def test_live_a_busy_screen_stops_keys_soon_and_others_later(self) -> None:
        self.assertAlmostEqual(self.stops_at(process=True, hands=False, by_hand=True), 0.25, delta=0.02)
        self.assertAlmostEqual(self.stops_at(process=True, hands=False, by_hand=False), 1.0, delta=0.02)
        self.assertEqual(self.stops_at(process=True, hands=True), float("inf"))

    def test_the_simulated_robot_waits_and_goes_on(self) -> None:
        for process, hands in ((False, False), (True, False), (False, True)):
            said = self.told(3.0, process=process, hands=hands, live=False, by_hand=True, only_simulated=True)
            self.assertFalse(any(v.stop for _, v in said))
            first = next(t for t, v in said if v.paused)
            self.assertAlmostEqual(first, 1.0, delta=0.02)
        watch = ScreenWatch()
        for n in range(1, 200):
            beats = n if n < 60 or n >= 180 else 59
            found = watch.look(n / 60, beats, beats, False, False, True)
            self.assertEqual(found.paused, 120 <= n < 180, n)
            self.assertEqual(found.waited_s > 0, n == 180, n)
            if n == 180:
                self.assertAlmostEqual(found.waited_s, 121 / 60, places=6)  # since the last beat

    def test_a_robot_on_a_link_that_is_not_live_is_told_to_rest_all_the_while(self) -> None:
        said = self.told(3.0, process=False, hands=False, live=False, only_simulated=False)
        self.assertEqual({v for _, v in said}, {Verdict()})

    def test_what_never_began_is_not_missed(self) -> None:
        watch = ScreenWatch()
        for n in range(300):
            self.assertEqual(watch.look(n / 60, 0, 0, live=n % 2 == 0, by_hand=True, only_simulated=True), Verdict())
