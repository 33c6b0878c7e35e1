"""What is usual, what people keep under a name, and groups: written, read back, refused, gone with what they belong to."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kuppel.core.access import Role
from kuppel.core.baseline import HOURS, Baseline
from kuppel.core.error import SettingsError
from kuppel.store import groups, inventory, people, saved
from kuppel.store import usual as store
from kuppel.store.groups import Group, Member
from kuppel.store.inventory import NotFound
from kuppel.store.usual import KeptUsual
from tests.store.test_store import StoreCase

DAY_US = 86_400_000_000


def pattern(level: float) -> Baseline:
    hours = np.arange(HOURS, dtype=np.float64)
    return Baseline(level + hours, 1 + hours / 100, 2 * level + hours, np.arange(HOURS, dtype=np.int64))


class Usual(StoreCase):
    def put(self, stream: int, until_us: int, level: float = 40.0, lost: float | None = 0.01) -> None:
        kept = KeptUsual(until_us, pattern(level), 0.99, lost)
        self.writer.write(lambda connection: store.put_usual(connection, {stream: kept}))

    def test_it_comes_back_as_it_was_to_four_octets(self) -> None:
        stream = self.a_stream()
        self.put(stream, DAY_US)
        with self.database.reading() as connection:
            found = store.usual_of(connection, [stream, 99])
        self.assertEqual(set(found), {stream})
        kept = found[stream]
        self.assertEqual((kept.until_us, kept.answered, kept.lost), (DAY_US, 0.99, 0.01))
        for one, other in zip(
            (kept.pattern.centre, kept.pattern.spread, kept.pattern.end),
            (pattern(40).centre, pattern(40).spread, pattern(40).end),
            strict=True,
        ):
            np.testing.assert_allclose(one, other, rtol=1e-6)
        self.assertEqual(kept.pattern.count.tolist(), list(range(HOURS)))

    def test_the_newest_takes_the_place_of_the_one_before(self) -> None:
        stream = self.a_stream()
        self.put(stream, DAY_US, 40.0)
        self.put(stream, 2 * DAY_US, 50.0, None)
        with self.database.reading() as connection:
            (kept,) = store.usual_of(connection, [stream]).values()
        self.assertEqual((kept.until_us, kept.pattern.centre[0], kept.lost), (2 * DAY_US, 50.0, None))

    def test_streams_want_it_once_a_day_and_only_while_they_run(self) -> None:
        stream = self.a_stream()

        def stale(until_us: int) -> list[int]:
            with self.database.reading() as connection:
                return store.stale(connection, until_us)

        self.assertIn(stream, stale(DAY_US))
        self.put(stream, DAY_US)
        self.assertNotIn(stream, stale(DAY_US))
        self.assertIn(stream, stale(2 * DAY_US))
        with self.database.reading() as connection:
            probe = inventory.stream(connection, stream).probe_id
        self.writer.write(lambda connection: inventory.remove_probe(connection, probe))
        self.assertEqual(stale(3 * DAY_US), [])


class Saved(StoreCase):
    def setUp(self) -> None:
        super().setUp()
        self.people = [
            self.writer.write(
                lambda connection, name=name: people.add_person(  # type: ignore[misc]
                    connection, name, name, Role.READER, "hash", 0, must_change=False
                )
            ).id
            for name in ("signe", "tobias")
        ]

    def keep(self, person: int, name: str, address: str = "/matrix") -> saved.Saved:
        return self.writer.write(lambda connection: saved.keep(connection, person, "view", name, {"address": address}))

    def names(self, person: int) -> list[str]:
        with self.database.reading() as connection:
            return [one.name for one in saved.saved(connection, person)]

    def test_each_person_has_their_own_in_the_order_of_keeping(self) -> None:
        for person, name in ((0, "ships"), (1, "ships"), (0, "calls")):
            self.keep(self.people[person], name)
        self.assertEqual([self.names(one) for one in self.people], [["ships", "calls"], ["ships"]])

    def test_forgetting_is_for_the_owner(self) -> None:
        one = self.keep(self.people[0], "ships")
        with self.assertRaises(NotFound):
            self.writer.write(lambda connection: saved.forget(connection, self.people[1], one.id))
        self.writer.write(lambda connection: saved.forget(connection, self.people[0], one.id))
        self.assertEqual(self.names(self.people[0]), [])

    def test_there_is_an_end_to_it(self) -> None:
        for number in range(200):
            self.keep(self.people[0], f"view {number}")
        with self.assertRaisesRegex(SettingsError, "200 are kept already"):
            self.keep(self.people[0], "one more")
        # What is there can still be changed, and others have their own count.
        self.keep(self.people[0], "view 7", "/map")
        self.keep(self.people[1], "one more")


class Groups(StoreCase):
    def setUp(self) -> None:
        super().setUp()
        self.a_stream()  # and what it joins

    def add(self, name: str, *members: Member, tags: tuple[str, ...] = ()) -> Group:
        return self.writer.write(lambda connection: groups.add_group(connection, Group(0, name, "", tags, members)))

    def found(self) -> list[Group]:
        with self.database.reading() as connection:
            return groups.groups(connection)

    def test_members_come_back_once_and_in_order(self) -> None:
        point, target = self.points[0], self.target
        made = self.add("b", Member("vantage_point", point), Member("target", target), Member("target", target))
        self.add("a")
        self.assertEqual([one.name for one in self.found()], ["a", "b"])
        self.assertEqual(self.found()[1].members, (Member("target", target), Member("vantage_point", point)))
        with self.database.reading() as connection:
            self.assertEqual(groups.group(connection, made.id).name, "b")

    def test_what_is_not_there_cannot_be_a_member(self) -> None:
        with self.assertRaisesRegex(SettingsError, "be the id of a probe"):
            self.add("c", Member("probe", 99))
        self.assertEqual(self.found(), [])

    def test_a_name_is_given_once(self) -> None:
        made = self.add("a")
        with self.assertRaisesRegex(SettingsError, f"group {made.id} has it"):
            self.add("a")

    def test_one_that_is_removed_leaves_its_members(self) -> None:
        made = self.add("a", Member("target", self.target))
        self.writer.write(lambda connection: groups.remove_group(connection, made.id))
        self.assertEqual(self.found(), [])
        with self.database.reading() as connection:
            self.assertEqual(inventory.target(connection, self.target).id, self.target)
        with self.assertRaises(NotFound):
            self.writer.write(lambda connection: groups.remove_group(connection, made.id))

    def test_what_is_removed_leaves_every_group(self) -> None:
        self.add("a", Member("target", self.target), Member("vantage_point", self.points[0]))
        self.writer.write(lambda connection: groups.forget_member(connection, "target", self.target))
        self.assertEqual(self.found()[0].members, (Member("vantage_point", self.points[0]),))

    @settings(max_examples=60)
    @given(
        st.sets(st.sampled_from("abcd")),
        st.sets(st.sampled_from("abcd")),
        st.sets(st.integers(1, 4)),
        st.integers(1, 4),
    )
    def test_it_holds_what_it_names_or_what_shares_a_tag(
        self, tags: set[str], own: set[str], members: set[int], asked: int
    ) -> None:
        group = Group(1, "g", "", tuple(tags), tuple(Member("probe", one) for one in members))
        self.assertEqual(group.holds("probe", asked, own), asked in members or bool(tags & own))
        self.assertEqual(group.holds("target", asked, own), bool(tags & own))


if __name__ == "__main__":
    import unittest

    unittest.main()
