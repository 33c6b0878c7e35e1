"""What people arrange: targets by hand and from a file, groups, schedules, many at once, what a probe costs, coverage."""

import csv
import io
import itertools
import time
import unittest
import zipfile
from functools import partial
from typing import Any, ClassVar

import httpx

from kuppel.core.position import Position
from kuppel.hub import package
from kuppel.store import positions
from tests.hub.running import HubInside


class ArrangementCase(unittest.TestCase):
    def setUp(self) -> None:
        self.hub = HubInside()
        self.hub.__enter__()
        self.addCleanup(self.hub.__exit__)
        self.client = self.hub.client

    def problem(self, answer: Any) -> tuple[int, str]:
        self.assertTrue(answer.json().get("remedy"), answer.text)
        return answer.status_code, answer.json().get("field")


class Targets(ArrangementCase):
    HEAD: ClassVar = {"Content-Type": "text/csv"}

    def send(self, text: str) -> Any:
        return self.client.post("/api/targets/import", content=text.encode(), headers=self.HEAD)

    def test_a_file_adds_and_changes_and_leaves_what_it_does_not_name(self) -> None:
        """RFC 4180: quoted fields with commas and line ends in them."""
        self.client.post(
            "/api/targets", json={"name": "booking site", "description": "where people book", "site": "Ostrey"}
        )
        text = 'name,tags,service,important\r\nbooking site,web;passengers,booking,yes\r\n"gates, pier 2","",gates,\r\n'
        self.assertEqual(self.send(text).json(), {"added": ["gates, pier 2"], "changed": ["booking site"], "unchanged": 0})
        found = {one["name"]: one for one in self.client.get("/api/targets").json()}
        site = found["booking site"]
        self.assertEqual((site["tags"], site["service"], site["is_important"]), (["web", "passengers"], "booking", True))
        self.assertEqual((site["description"], site["site"]), ("where people book", "Ostrey"))
        self.assertEqual(self.send(text).json()["unchanged"], 2)

    def test_one_wrong_row_and_nothing_is_done(self) -> None:
        for text, field in (
            ("name,colour\na,blue\n", "file"),
            ("description\na\n", "file"),
            ("name,important\na,no\nb,perhaps\n", "row 3, important"),
            ("name\na\na\n", "row 3"),
            ("name\n\n,x\n", "row 3"),
            ("name,site\na,x,y\n", "row 2"),
            (f"name\n{'a' * 81}\n", "row 2, name"),
        ):
            self.assertEqual(self.problem(self.send(text)), (422, field), text)
        self.assertEqual(
            self.problem(self.client.post("/api/targets/import", content=b"name\n\xff", headers=self.HEAD)), (422, "file")
        )
        self.assertEqual(self.client.get("/api/targets").json(), [])


class Positions(ArrangementCase):
    """Degrees of WGS 84 as RFC 7946 §4 bounds them."""

    def test_a_target_and_a_vantage_point_have_a_place_on_the_map(self) -> None:
        new = {"name": "pier", "position": {"longitude": -0.94, "latitude": 60.46}}
        made = self.client.post("/api/targets", json=new).json()
        self.assertEqual(made["position"], new["position"])
        text = "name,longitude,latitude\npier,-0.95,60.5\nbuoy,,\n"
        self.client.post("/api/targets/import", content=text, headers={"Content-Type": "text/csv"})
        places = {one["name"]: one["position"] for one in self.client.get("/api/targets").json()}
        self.assertEqual((places["pier"]["longitude"], places["buoy"]), (-0.95, None))
        self.hub.enrol()
        point = self.client.get("/api/vantage-points").json()[0]
        self.assertIsNone(point["position"])
        change = {"vantage_points": [point["id"]], "position": {"longitude": 2.1, "latitude": 62.9}}
        moved = self.client.post("/api/vantage-points/changes", json=change).json()[0]
        self.assertEqual(moved["position"], change["position"])
        tagged = {"vantage_points": [point["id"]], "add_tags": ["pier"]}
        kept = self.client.post("/api/vantage-points/changes", json=tagged).json()[0]
        self.assertEqual(kept["position"], change["position"])

    def test_a_place_that_there_is_not_is_refused(self) -> None:
        for where in ({"longitude": 190, "latitude": 0}, {"longitude": 0, "latitude": -91}, {"longitude": 1}):
            answer = self.client.post("/api/targets", json={"name": "nowhere", "position": where})
            self.assertEqual(answer.status_code, 422, answer.text)
        answer = self.client.post(
            "/api/targets/import", content="name,longitude\nhalf,12\n", headers={"Content-Type": "text/csv"}
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("row 2", answer.json()["field"])


class Groups(ArrangementCase):
    def test_members_by_hand_and_by_tag_make_its_state(self) -> None:
        one, _ = self.hub.enrol("Brannick")
        other, _ = self.hub.enrol("Ostrey")
        by_tag = self.hub.add_probe([one], name="a", tags=["booking"])
        by_hand = self.hub.add_probe([one, other], name="b")
        self.hub.add_probe([other], name="c")
        body = {"name": "booking", "tags": ["booking"], "members": [{"kind": "target", "id": by_hand["target"]}]}
        made = self.client.post("/api/groups", json=body).json()
        # One stream of the tagged probe, two of the target's probe; none has run, so none is fine.
        self.assertEqual((made["summary"]["streams"], made["summary"]["not_fine"]), (3, 3))
        self.client.delete(f"/api/probes/{by_hand['id']}")
        self.client.delete(f"/api/targets/{by_hand['target']}")
        found = self.client.get("/api/groups").json()[0]
        self.assertEqual((found["members"], found["summary"]["streams"]), ([], 1))
        self.assertEqual(self.client.delete(f"/api/groups/{made['id']}").status_code, 204)
        self.assertEqual(self.client.get(f"/api/probes/{by_tag['id']}").status_code, 200)

    def test_what_is_not_there_is_refused(self) -> None:
        body = {"name": "x", "members": [{"kind": "probe", "id": 99}]}
        self.assertEqual(self.problem(self.client.post("/api/groups", json=body)), (422, "members"))
        self.client.post("/api/groups", json={"name": "x"})
        self.assertEqual(self.problem(self.client.post("/api/groups", json={"name": "x"})), (422, "name"))


class Schedules(ArrangementCase):
    def test_a_schedule_is_kept_told_and_sent_to_the_agent(self) -> None:
        point, agent = self.hub.enrol()
        schedule = {
            "way": "cron", "cron": "*/30 6-18 * * 1-5", "zone": "Europe/Oslo", "quiet": [["12:00", "13:00"]],
            "burst_interval_s": 60, "burst_for_s": 600,
        }  # fmt: skip
        made = self.hub.add_probe([point], schedule=schedule)
        self.assertIn("*/30 6-18 * * 1-5 Europe/Oslo", made["told"]["schedule"])
        self.assertEqual(made["interval_s"], 1800)
        sent = self.client.get("/api/agents/self/assignment", headers=agent).json()["probes"][0]["schedule"]
        self.assertEqual((sent["way"], sent["cron"], sent["burst_for_us"]), ("cron", schedule["cron"], 600_000_000))
        again = self.client.get(f"/api/probes/{made['id']}").json()
        self.assertEqual(again["schedule"]["quiet"], [["12:00", "13:00"]])
        answer = self.client.put(
            f"/api/probes/{made['id']}", json={k: v for k, v in again.items() if k not in ("id", "told")}
        )
        self.assertEqual(answer.json(), again)

    def test_a_stream_that_never_ran_has_an_empty_page_and_no_fault(self) -> None:
        point, _ = self.hub.enrol()
        self.hub.add_probe([point])
        stream = self.hub.streams()[0]["stream"]
        self.assertEqual(self.client.get(f"/api/streams/{stream}/series").json()["spans"], [])
        for part in ("", "/figures", "/runs", "/facts"):
            self.assertEqual(self.client.get(f"/api/streams/{stream}{part}").status_code, 200, part)

    def test_what_cannot_be_followed_is_refused(self) -> None:
        target = self.client.post("/api/targets", json={"name": "t"}).json()["id"]
        new = {"name": "p", "kind": "icmp", "target": target, "settings": {"host": "192.0.2.1"}, "interval_s": 60}
        for schedule, field in (
            ({"way": "cron", "cron": "soon"}, "schedule.cron"),
            ({"way": "daily", "at": "25:00"}, "schedule.at"),
            ({"zone": "Nowhere"}, "schedule.zone"),
        ):
            answer = self.client.post("/api/probes", json=new | {"schedule": schedule})
            self.assertEqual(self.problem(answer), (422, field))

    def test_a_plan_counts_runs_and_octets_and_says_what_is_wrong(self) -> None:
        body = {
            "kind": "icmp",
            "settings": {"host": "192.0.2.1", "count": 10, "size": 72},
            "interval_s": 60,
            "vantage_points": [1, 2],
        }
        told = self.client.post("/api/probes/plan", json=body).json()
        # Ten packets of 72 + 28 octets each way, once a minute.
        self.assertEqual((told["each"]["runs_a_day"], told["each"]["octets_a_run"]), (1440, 2000))
        self.assertEqual((told["runs_a_day"], told["octets_a_day"], told["wrong"]), (2880, 2 * 1440 * 2000, ""))
        self.assertEqual(len(told["next_runs"]), 3)
        wrong = self.client.post("/api/probes/plan", json=body | {"settings": {"host": ""}}).json()
        self.assertIn("settings.host", wrong["wrong"])

    def test_a_schedule_that_would_burst_its_budget_is_refused(self) -> None:
        """25 MB each way, every minute: 72 GB a day."""
        target = self.client.post("/api/targets", json={"name": "t"}).json()["id"]
        new = {"name": "p", "kind": "throughput", "target": target, "settings": {"host": "192.0.2.1"}, "interval_s": 60}
        self.assertEqual(self.problem(self.client.post("/api/probes", json=new)), (422, "settings.budget_mb_a_day"))
        self.assertEqual(self.client.post("/api/probes", json=new | {"interval_s": 7200}).status_code, 201)


class Many(ArrangementCase):
    def test_probes_are_changed_together_or_not_at_all(self) -> None:
        one, _ = self.hub.enrol("Brannick")
        other, _ = self.hub.enrol("Ostrey")
        ids = [self.hub.add_probe([one], name=name)["id"] for name in ("a", "b")]
        body = {"probes": ids, "is_enabled": False, "interval_s": 300, "add_vantage_points": [other], "add_tags": ["x"]}
        found = self.client.post("/api/probes/changes", json=body).json()
        for probe in found:
            self.assertEqual(
                (probe["is_enabled"], probe["interval_s"], probe["vantage_points"], probe["tags"]),
                (False, 300, [one, other], ["x"]),
            )
        self.assertEqual(
            self.client.post("/api/probes/changes", json={"probes": [ids[0], 999], "attempts": 5}).status_code, 404
        )
        self.assertEqual(self.client.get(f"/api/probes/{ids[0]}").json()["attempts"], 2)

    def test_a_change_to_many_keeps_to_each_budget(self) -> None:
        """Found by reading: the check stood only where one probe is saved. 50 MB a run, 1,000 MB a day: 20 runs a day."""
        target = self.client.post("/api/targets", json={"name": "t"}).json()["id"]
        new = {"kind": "throughput", "target": target, "settings": {"host": "192.0.2.1"}, "interval_s": 7200}
        ids = [self.client.post("/api/probes", json=new | {"name": name}).json()["id"] for name in ("a", "b")]
        for interval_s, status in ((4319, 422), (4320, 200)):
            answer = self.client.post("/api/probes/changes", json={"probes": ids, "interval_s": interval_s})
            self.assertEqual(answer.status_code, status, interval_s)
        refused = self.client.post("/api/probes/changes", json={"probes": ids, "interval_s": 60}).json()
        self.assertIn("72,000 MB", str(refused))
        self.assertEqual([one["interval_s"] for one in self.client.get("/api/probes").json()], [4320, 4320])

    def test_vantage_points_are_tagged_and_told_to_update(self) -> None:
        point, agent = self.hub.enrol()
        due = "2026-12-01T02:00:00Z"
        body = {"vantage_points": [point], "add_tags": ["harbour"], "update_due": due}
        found = self.client.post("/api/vantage-points/changes", json=body).json()[0]
        self.assertEqual((found["tags"], found["update_due"]), (["harbour"], due))
        update = self.client.get("/api/agents/self/assignment", headers=agent).json()["update"]
        self.assertEqual(update["due_us"], 1_796_090_400_000_000)
        self.client.post("/api/vantage-points/changes", json={"vantage_points": [point], "withdraw_update": True})
        self.assertIsNone(self.client.get("/api/agents/self/assignment", headers=agent).json()["update"])

    def test_whose_they_are_is_kept_whatever_their_agents_were_not_told(self) -> None:
        point, agent = self.hub.enrol()
        body = {"vantage_points": [point], "country": " Skerries ", "person": "Ines H."}
        found = self.client.post("/api/vantage-points/changes", json=body).json()[0]
        self.assertEqual((found["country"], found["person"]), ("Skerries", "Ines H."))

        def reported(**more: str) -> tuple[str, str]:
            counts = dict.fromkeys(("spooled", "dropped_details", "dropped_results", "missed_slots"), 0)
            report = {"description": {"name": "Lundhavn"} | more, "scheduling_lag_us": 0, "is_busy": False} | counts
            answer = self.hub.client.put("/api/agents/self/report", json=report, headers=agent)
            self.assertEqual(answer.status_code, 204, answer.text)
            (one,) = self.client.get("/api/vantage-points").json()
            return one["country"], one["person"]

        self.assertEqual(reported(), ("Skerries", "Ines H."))
        self.assertEqual(reported(person="Olu A."), ("Skerries", "Olu A."))
        cleared = {"vantage_points": [point], "person": ""}
        self.assertEqual(self.client.post("/api/vantage-points/changes", json=cleared).json()[0]["person"], "")


class Courses(ArrangementCase):
    """What an agent on the move tells, and where that is read again."""

    def setUp(self) -> None:
        super().setUp()
        self.ship, self.agent = self.hub.enrol("MV Fulmar")

    def report(self, position: dict[str, float] | None) -> httpx.Response:
        counts = dict.fromkeys(("spooled", "dropped_details", "dropped_results", "missed_slots"), 0)
        report = {"description": {"name": "MV Fulmar"}, "scheduling_lag_us": 0, "is_busy": False, "position": position}
        return self.hub.client.put("/api/agents/self/report", json=report | counts, headers=self.agent)

    def courses(self, **window: str) -> dict[int, list[tuple[float, float]]]:
        found = self.client.get("/api/courses", params=window).json()
        return {one["vantage_point"]: [(each["longitude"], each["latitude"]) for each in one["fixes"]] for one in found}

    def test_a_course_is_what_was_told_and_the_map_has_its_end(self) -> None:
        told = [(-0.9, 60.4), (-0.8, 60.35), (-0.8, 60.35), (-0.7, 60.3)]
        for longitude, latitude in told:
            self.assertEqual(self.report({"longitude": longitude, "latitude": latitude}).status_code, 204)
        self.assertEqual(self.courses(), {self.ship: [told[0], told[1], told[3]]})
        points = {one["id"]: one for one in self.client.get("/api/vantage-points").json()}
        self.assertEqual(points[self.ship]["position"], {"longitude": -0.7, "latitude": 60.3})

    def test_who_tells_no_position_keeps_the_one_that_was_given(self) -> None:
        given = {"vantage_points": [self.ship], "position": {"longitude": 1.5, "latitude": 61}}
        self.assertEqual(self.client.post("/api/vantage-points/changes", json=given).status_code, 200)
        self.assertEqual(self.report(None).status_code, 204)
        points = {one["id"]: one for one in self.client.get("/api/vantage-points").json()}
        self.assertEqual(points[self.ship]["position"], {"longitude": 1.5, "latitude": 61})
        self.assertEqual(self.courses(), {})

    def test_a_place_that_is_none_is_refused_by_name(self) -> None:
        for position, field in (
            ({"longitude": 181, "latitude": 0}, "longitude"),
            ({"longitude": 0, "latitude": -90.5}, "latitude"),
            ({"longitude": 0}, "latitude"),
        ):
            answer = self.report(position)  # type: ignore[arg-type]
            self.assertEqual(answer.status_code, 422)
            self.assertIn(field, answer.json()["field"])
        self.assertEqual(self.courses(), {})

    def test_a_long_course_is_thinned_and_keeps_its_end(self) -> None:
        hub = self.hub.app.state.hub
        now_us = time.time_ns() // 1000
        fixes = [positions.Fix(now_us - (2000 - number) * 5_000_000, Position(number / 1000, 60)) for number in range(2000)]
        hub.writer.write(partial(positions.add, vantage_point_id=self.ship, fixes=fixes))
        (course,) = self.courses().values()
        self.assertTrue(300 < len(course) <= 600, len(course))
        self.assertEqual(course[-1], (1.999, 60))
        steps = {round(other[0] - one[0], 6) for one, other in itertools.pairwise(course)}
        self.assertEqual(len(steps), 1)

    def test_it_goes_with_its_vantage_point(self) -> None:
        self.report({"longitude": 1, "latitude": 60})
        self.assertEqual(len(self.courses()), 1)
        with self.hub.app.state.hub.database.write_engine.begin() as connection:
            connection.exec_driver_sql(f"DELETE FROM vantage_point WHERE id = {self.ship}")
        self.assertEqual(self.courses(), {})


class Coverage(ArrangementCase):
    def test_what_nobody_measures_and_who_does_not_follow(self) -> None:
        points = [self.hub.enrol(name)[0] for name in ("Brannick", "Ostrey", "Averil", "Kelmouth")]
        self.client.post("/api/vantage-points/changes", json={"vantage_points": points[:3], "add_tags": ["harbour"]})
        probe = self.hub.add_probe(points[:2], name="front page")
        self.client.post("/api/targets", json={"name": "crew roster"})
        found = self.client.get("/api/coverage").json()
        self.assertEqual([one["name"] for one in found["bare_targets"]], ["crew roster"])
        self.assertEqual({one["name"] for one in found["idle_vantage_points"]}, {"Averil", "Kelmouth"})
        behind = [(one["vantage_point"]["name"], one["probe"]["name"], one["tag"]) for one in found["not_following"]]
        self.assertEqual(behind, [("Averil", "front page", "harbour")])
        rows = list(csv.reader(io.StringIO(self.client.get("/api/coverage.csv").text)))
        self.assertEqual(rows[1], ["Averil", "harbour", "front page", "http"])
        self.client.post("/api/probes/changes", json={"probes": [probe["id"]], "is_enabled": False})
        self.assertEqual(len(self.client.get("/api/coverage").json()["bare_targets"]), 2)


class Trials(ArrangementCase):
    def ask(self, points: list[int], **changed: Any) -> Any:
        body = {"kind": "tcp", "settings": {"host": "192.0.2.1", "port": 7}, "vantage_points": points}
        return self.client.post("/api/trials", json=body | changed)

    def test_an_agent_fetches_it_once_and_its_result_is_shown(self) -> None:
        point, agent = self.hub.enrol()
        other, other_agent = self.hub.enrol("Ostrey")
        asked = self.ask([point]).json()
        self.assertEqual([one["state"] for one in asked["parts"]], ["asked"])
        self.assertEqual(self.client.get("/api/agents/self/trials?wait_s=0", headers=other_agent).json(), [])
        sent = self.client.get("/api/agents/self/trials?wait_s=5", headers=agent).json()
        self.assertEqual((sent[0]["trial"], sent[0]["settings"]["host"]), (asked["trial"], "192.0.2.1"))
        self.assertEqual(self.client.get("/api/agents/self/trials?wait_s=0", headers=agent).json(), [])
        now_us = time.time_ns() // 1000
        result = {
            "sequence": 1, "stream": 1, "started_us": now_us, "quantities": {"connect": 12.5},
            "attempts": [{"started_us": now_us, "duration_us": 12_500}],
        }  # fmt: skip
        where = f"/api/agents/self/trials/{asked['trial']}"
        wrong = {"units": {"connect": "s"}, "result": result}
        self.assertEqual(self.client.post(where, json=wrong, headers=agent).status_code, 422)
        told = {"units": {"connect": "ms"}, "result": result}
        self.assertEqual(self.client.post(where, json=told, headers=other_agent).status_code, 404)
        self.assertEqual(self.client.post(where, json=told, headers=agent).status_code, 204)
        found = self.client.get(f"/api/trials/{asked['trial']}").json()
        self.assertTrue(found["is_done"])
        self.assertEqual(found["parts"][0]["run"]["quantities"], {"connect": 12.5})
        self.assertEqual(self.client.get("/api/streams").json(), [])
        self.assertGreater(other, point)

    def test_secrets_of_the_saved_probe_reach_the_agent_only(self) -> None:
        point, agent = self.hub.enrol()
        steps = [{"name": "in", "url": "http://a.example/", "body": "${pin}"}]
        settings = {"steps": steps, "secrets": {"pin": "very-secret"}}
        made = self.hub.add_probe([point], kind="transaction", settings=settings, limits=[])
        self.assertNotIn("very-secret", self.client.get("/api/probes").text)
        asked = self.ask([point], kind="transaction", settings=made["settings"], probe=made["id"])
        self.assertNotIn("very-secret", asked.text)
        sent = self.client.get("/api/agents/self/trials?wait_s=0", headers=agent).json()
        self.assertEqual(sent[0]["settings"]["secrets"], {"pin": "very-secret"})
        self.assertNotIn("very-secret", self.client.get("/api/record").text)

    def test_what_cannot_be_tried(self) -> None:
        point, _ = self.hub.enrol()
        self.assertEqual(self.problem(self.ask([point + 1])), (422, "vantage_points"))
        self.assertEqual(self.problem(self.ask([point], settings={"host": "x"})), (422, "settings.port"))
        self.assertEqual(self.ask([]).status_code, 422)
        self.assertEqual(self.client.get("/api/trials/none").status_code, 404)
        reader = self.hub.signed_in("reader")
        body = {"kind": "tcp", "settings": {"host": "192.0.2.1", "port": 7}, "vantage_points": [point]}
        self.assertEqual(reader.post("/api/trials", json=body).status_code, 403)


class Package(ArrangementCase):
    def test_the_hub_serves_its_agents_a_wheel_without_itself(self) -> None:
        """PyPA, binary distribution format: RECORD lists every file with its digest."""
        visitor = self.hub.visitor()
        answer = visitor.get(f"/api/agents/package/{package.wheel_name()}")
        with zipfile.ZipFile(io.BytesIO(answer.content)) as wheel:
            names = set(wheel.namelist())
            record = next(name for name in names if name.endswith("/RECORD"))
            listed = {row[0] for row in csv.reader(io.StringIO(wheel.read(record).decode()))}
        self.assertEqual(listed, names)
        self.assertIn("kuppel/agent/process.py", names)
        self.assertFalse({name for name in names if name.startswith(("kuppel/hub/", "kuppel/lab/"))})
        self.assertEqual(visitor.get("/api/agents/package/other.whl").status_code, 404)

    def test_the_joining_program_is_python_and_names_this_hub(self) -> None:
        text = self.hub.visitor().get("/api/agents/join").text
        compile(text, "join", "exec")
        self.assertIn('"http://127.0.0.1"', text)
        self.assertIn(package.wheel_name(), text)
