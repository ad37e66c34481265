"""What a hub measures of itself, in the text format of Prometheus, on an address of its own."""

from __future__ import annotations

from collections.abc import Iterator

from prometheus_client import CollectorRegistry, Counter, Histogram, start_http_server
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily
from prometheus_client.registry import Collector
from sqlalchemy import Engine, func, select
from sqlalchemy.exc import SQLAlchemyError

from barnacle.hub import schema
from barnacle.hub.guard import Guard
from barnacle.hub.house.queue import Queue, waiting_since
from barnacle.hub.lines import OpenLines

# In seconds.
_BUCKETS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30)


class Metrics:
    """Counted with every request: how many of which kind, how they ended, and how long they took."""

    def __init__(self) -> None:
        self.registry = CollectorRegistry()
        labels = ("what", "status")
        self._requests = Counter("barnacle_requests", "Requests answered.", labels, registry=self.registry)
        self._seconds = Histogram(
            "barnacle_request_seconds", "How long answers took.", ("what",), buckets=_BUCKETS, registry=self.registry
        )

    def answered(self, what: str, status: int, seconds: float) -> None:
        """A request was answered; `what` names no list and no person."""
        self._requests.labels(what, f"{status // 100}xx").inc()
        self._seconds.labels(what).observe(seconds)

    def serve(self, host: str, port: int, engine: Engine, guard: Guard, lines: OpenLines) -> None:
        """Answer whoever asks at that address, in a thread of its own. Raises OSError."""
        self.registry.register(_Standing(engine, guard, lines))
        start_http_server(port, host, self.registry)


class _Standing(Collector):
    """What is looked up when somebody asks."""

    def __init__(self, engine: Engine, guard: Guard, lines: OpenLines) -> None:
        self.engine = engine
        self.guard = guard
        self.lines = lines

    def collect(self) -> Iterator[GaugeMetricFamily | CounterMetricFamily]:
        yield GaugeMetricFamily("barnacle_lines", "Lines that are open.", len(self.lines.lines))
        yield CounterMetricFamily("barnacle_lines_cut", "Lines cut for want of room or of a request.", self.lines.cut)
        yield CounterMetricFamily("barnacle_wrong_tries", "Attempts with neither a token nor a code.", self.guard.wrong)
        counts = {"people": schema.person, "lists": schema.shared, "tokens": schema.token}
        try:
            with self.engine.connect().execution_options(only_reads=True) as connection:
                for name, table in counts.items():
                    number = connection.execute(select(func.count()).select_from(table)).scalar_one()
                    yield GaugeMetricFamily(f"barnacle_{name}", f"{name.title()} of the hub.", number)
                cards = select(func.count()).where(~schema.card.c.gone)
                yield GaugeMetricFamily("barnacle_cards", "Cards of all lists.", connection.execute(cards).scalar_one())
            copies = GaugeMetricFamily("barnacle_house_copies", "Copies of house lists' mail.", labels=("state",))
            for state, number in Queue(self.engine).waiting().items():
                copies.add_metric((state,), number)
            yield copies
            with self.engine.connect().execution_options(only_reads=True) as connection:
                seconds = waiting_since(connection)
                held = connection.execute(select(func.count()).select_from(schema.held)).scalar_one()
            yield GaugeMetricFamily("barnacle_house_waiting_seconds", "How long the oldest copy has been due.", seconds)
            yield GaugeMetricFamily("barnacle_house_held", "What waits for keepers of house lists.", held)
            yield GaugeMetricFamily("barnacle_database_up", "Whether the database answers.", 1)
        except SQLAlchemyError:
            yield GaugeMetricFamily("barnacle_database_up", "Whether the database answers.", 0)
