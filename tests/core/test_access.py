"""Roles, passwords, waiting, sessions and tokens."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from kuppel.core.access import (
    FAILURE_MEMORY_US,
    MINUTE_US,
    SCOPES,
    SECOND_US,
    Role,
    Scope,
    SessionLife,
    TokenState,
    check_password,
    token_scopes,
    wait_us,
)
from kuppel.core.error import SettingsError

HOUR_US = 60 * MINUTE_US
TIMES = st.lists(st.integers(0, 3 * HOUR_US), max_size=30)


class Roles(unittest.TestCase):
    def test_each_may_what_the_one_below_may(self) -> None:
        """The issue's roles: reader sees; engineer measures and edits; admin has people, tokens and settings besides."""
        self.assertEqual(SCOPES[Role.READER], {Scope.SEE})
        self.assertEqual(SCOPES[Role.ENGINEER], {Scope.SEE, Scope.EDIT})
        self.assertEqual(SCOPES[Role.ADMIN], {Scope.SEE, Scope.EDIT, Scope.ADMINISTER})

    @given(st.sets(st.sampled_from(Scope)), st.sampled_from(Role))
    def test_a_token_is_never_more_than_it_was_given_nor_than_its_owner(self, granted: set[Scope], role: Role) -> None:
        scopes = token_scopes(granted, role)
        self.assertTrue(scopes <= granted)
        self.assertTrue(scopes <= SCOPES[role])


class Passwords(unittest.TestCase):
    def test_length_is_what_counts(self) -> None:
        """NIST SP 800-63B-4 §3.1.1.2 (from memory): 15 characters when it is the only factor, spaces and all of Unicode
        allowed, no rule of composition."""
        for good in ("three gulls on a pier", "åtte ærfugler flyr", "aaaaaaaaaaaabcdef", "x" * 100 + "yzabcd"):
            check_password(good, "signe")
        with self.assertRaisesRegex(SettingsError, "15 characters"):
            check_password("fourteen signs", "signe")

    def test_what_is_guessed_first_is_refused(self) -> None:
        for bad in ("aaaaaaaaaaaaaaaaaaaa", "abababababababababab", "signe signe signe!", "x" * 129):
            with self.assertRaises(SettingsError) as raised:
                check_password(bad, "signe")
            self.assertNotIn(bad, str(raised.exception))


class Waiting(unittest.TestCase):
    def test_five_are_free_then_it_doubles(self) -> None:
        waits = [wait_us([0] * count, 0) // SECOND_US for count in range(13)]
        self.assertEqual(waits, [0, 0, 0, 0, 0, 30, 60, 120, 240, 480, 900, 900, 900])

    @given(TIMES, st.integers(0, 4 * HOUR_US))
    def test_nobody_is_locked_out_for_good(self, failures: list[int], now_us: int) -> None:
        past = [one for one in failures if one <= now_us]
        self.assertLessEqual(wait_us(past, now_us), 15 * MINUTE_US)
        self.assertEqual(wait_us(past, now_us + FAILURE_MEMORY_US), 0)

    @given(TIMES, st.integers(3 * HOUR_US, 4 * HOUR_US))
    def test_another_wrong_one_never_shortens_it(self, failures: list[int], now_us: int) -> None:
        self.assertGreaterEqual(wait_us([*failures, now_us], now_us), wait_us(failures, now_us))

    def test_guessing_is_slow(self) -> None:
        """How many tries a day a guesser gets: OWASP asks for a number that makes guessing hopeless."""
        failures: list[int] = []
        now_us = 0
        while now_us < 24 * HOUR_US:
            now_us += wait_us(failures, now_us)
            failures.append(now_us)
        self.assertLess(len(failures), 300)


class Sessions(unittest.TestCase):
    @given(st.integers(0, 24 * HOUR_US))
    def test_idle_and_absolute(self, used_us: int) -> None:
        """OWASP Session Management Cheat Sheet: both timeouts, whichever comes first."""
        life = SessionLife(idle_us=HOUR_US, absolute_us=12 * HOUR_US)
        self.assertEqual(life.ends_us(0, used_us), min(used_us + HOUR_US, 12 * HOUR_US))


class Tokens(unittest.TestCase):
    def test_why_one_is_refused(self) -> None:
        good = TokenState(expires_us=100, is_withdrawn=False, uses=0, most_uses=1)
        self.assertIsNone(good.refusal(99))
        self.assertEqual(good.refusal(100), "it has expired")
        self.assertEqual(TokenState(None, True).refusal(0), "it was withdrawn")
        self.assertEqual(TokenState(None, False, 1, 1).refusal(0), "it was used already")
        self.assertEqual(TokenState(None, False, 9, 9).refusal(0), "it was used for all its 9 machines")
        self.assertIsNone(TokenState(None, False, 9, 0).refusal(0))
