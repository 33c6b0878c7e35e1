"""The agent as a whole: enrol, then measure, deliver, follow the assignment and report, until told to stop."""

import asyncio
from collections.abc import Awaitable, Callable

import structlog

from kuppel import __version__
from kuppel.agent.delivery import Delivery
from kuppel.agent.hub_client import HubAway, HubClient, HubRefused
from kuppel.agent.machine import LagMeter, own_addresses, write_private
from kuppel.agent.navigation import Navigation, gpsd, nowhere
from kuppel.agent.schedule import Schedule
from kuppel.agent.settings import AgentSettings
from kuppel.agent.trials import Trials
from kuppel.agent.update import Updating
from kuppel.core.clock import ClockOffset
from kuppel.probes.kernel import KernelNet
from kuppel.probes.kernel.ledger import Ledger
from kuppel.probes.kernel.reflectors import ReflectorPorts, Reflectors
from kuppel.probes.net import Net
from kuppel.store.spool import Spool
from kuppel.wire.delivery import AgentDescription, AgentReport, Assignment, Whereabouts

_ASSIGNMENT_EVERY_S = 2.0
_REPORT_EVERY_S = 10.0
_LONGEST_WAIT_S = 10.0
_log = structlog.get_logger()


class EnrolmentRefused(Exception):
    """The hub will not have this agent; the message says why and what to do."""


class Agent:
    """One vantage point's process. `run` returns when it is cancelled, with everything measured safely spooled.

    Parameters
    ----------
    net : another network than this machine's own.
    lag : how late this machine wakes, if anything but the event loop says so.
    navigation : where this machine is, if anything but the gpsd of its settings says so.
    """

    def __init__(
        self,
        settings: AgentSettings,
        net: Net | None = None,
        lag: LagMeter | None = None,
        navigation: Navigation | None = None,
    ) -> None:
        self._settings = settings
        settings.state.mkdir(parents=True, exist_ok=True)
        self._kernel_net = KernelNet(default_source=settings.source, ledger=Ledger(settings.state / "ledger.json"))
        self._net = net or self._kernel_net
        self._client = HubClient(settings)
        self._lag = lag or LagMeter()
        self._navigation = navigation or (gpsd(settings.gpsd) if settings.gpsd else nowhere)
        self._spool = Spool(
            settings.state / "spool.db", most_results=settings.most_results, most_details=settings.most_details
        )
        self._delivery = Delivery(self._spool, self._client)
        self._schedule = Schedule(self._net, self._lag, f"{settings.name}/{self._spool.identity}", self._delivery.put)
        self._trials = Trials(self._net, self._client)
        self._updating = Updating(self._client, settings.state)
        self._assigned: Assignment | None = None
        self._clock: ClockOffset | None = None
        self._reflectors = _reflectors(settings)

    @property
    def reflects_on(self) -> dict[str, int]:
        """The ports on which it answers other agents' test packets, by what they are."""
        return self._reflectors.ports

    async def run(self) -> None:
        """Measure until cancelled.

        Raises
        ------
        EnrolmentRefused
            when the hub refuses the token before this agent ever had one of its own.
        """
        self._reflectors.start()
        if self.reflects_on:
            _log.info("reflecting", **self.reflects_on, is_authenticated=self._settings.reflect_key is not None)
        try:
            await self._recall_assignment()
            await self._enrol()
            async with asyncio.TaskGroup() as tasks:
                tasks.create_task(self._lag.run())
                tasks.create_task(self._delivery.run())
                tasks.create_task(self._repeat(self._follow_assignment, _ASSIGNMENT_EVERY_S))
                tasks.create_task(self._repeat(self._report, _REPORT_EVERY_S))
                tasks.create_task(self._repeat(self._trials.fetch, 0.1))
        finally:
            self._reflectors.close()
            self._trials.stop()
            await self._schedule.stop()
            await self._client.close()
            self._kernel_net.close()
            self._spool.close()

    async def _enrol(self) -> None:
        token_file = self._settings.state / "token"
        if token_file.exists():
            self._client.use_token(token_file.read_text().strip())
            return
        wait_s = 0.5
        while True:
            try:
                enrolment = await self._client.enrol(self._description(), self._settings.token.get_secret_value())
                break
            except HubAway as away:
                _log.warning("enrolment waits", reason=str(away))
                await asyncio.sleep(away.wait_s or wait_s)
                wait_s = min(_LONGEST_WAIT_S, wait_s * 2)
            except HubRefused as refused:
                raise EnrolmentRefused(str(refused)) from None
        write_private(token_file, enrolment.token.encode())
        self._client.use_token(enrolment.token)
        _log.info("enrolled", vantage_point=enrolment.vantage_point, name=self._settings.name)

    async def _recall_assignment(self) -> None:
        """Go on with the last known probes, so that a restart during a hub outage costs nothing."""
        kept = self._settings.state / "assignment.json"
        if kept.exists():
            await self._schedule.assign(Assignment.model_validate_json(kept.read_bytes()))

    async def _follow_assignment(self) -> None:
        assignment = await self._client.assignment()
        if assignment is not None:
            self._assigned = assignment
            await self._schedule.assign(assignment)
            # Settings may hold credentials.
            write_private(self._settings.state / "assignment.json", assignment.model_dump_json().encode())
            _log.info("assignment", probes=len(assignment.probes))
        if self._assigned is not None:
            await self._updating.consider(self._assigned.update, self._net.clock.utc_us())

    async def _report(self) -> None:
        self._clock = await self._client.clock() or self._clock
        if self._clock is not None:
            self._kernel_net.system_clock.hub_offset_us = round(self._clock.offset_us)
        position = await self._navigation()
        spooled = self._spool.status()
        await self._client.report(
            AgentReport(
                description=self._description(),
                clock_offset_us=None if self._clock is None else round(self._clock.offset_us),
                clock_error_us=None if self._clock is None else round(self._clock.error_us),
                scheduling_lag_us=self._lag.lag_us,
                is_busy=self._lag.is_busy,
                spooled=spooled.waiting,
                dropped_details=spooled.dropped_details,
                dropped_results=spooled.dropped_results,
                missed_slots=self._schedule.missed_slots,
                position=Whereabouts.of(position),
            )
        )

    async def _repeat(self, act: Callable[[], Awaitable[None]], every_s: float) -> None:
        wait_s = every_s
        while True:
            try:
                await act()
                wait_s = every_s
            except HubAway as away:
                wait_s = away.wait_s or min(_LONGEST_WAIT_S, wait_s * 2)
            except HubRefused as refused:
                _log.error("the hub refused", reason=str(refused))
                wait_s = _LONGEST_WAIT_S
            await asyncio.sleep(wait_s)

    def _description(self) -> AgentDescription:
        source = [] if self._settings.source is None else [self._settings.source]
        return AgentDescription(
            name=self._settings.name,
            kind=self._settings.kind,
            place=self._settings.place,
            provider=self._settings.provider,
            country=self._settings.country,
            person=self._settings.person,
            version=__version__,
            addresses=source or own_addresses(),
        )


def _reflectors(settings: AgentSettings) -> Reflectors:
    """
    Raises
    ------
    NetError
        when a port cannot be listened on.
    """
    ports = ReflectorPorts(settings.reflect_port, settings.speech_port, settings.data_port)
    key = None if settings.reflect_key is None else settings.reflect_key.get_secret_value()
    return Reflectors(settings.source or "0.0.0.0", ports, key, settings.clock_error_us)
