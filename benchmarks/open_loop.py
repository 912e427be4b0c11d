"""Open-loop latencies beside queueing theory.

    python benchmarks/open_loop.py [SECONDS]

Poisson arrivals are served one by one at loads of 50 % and 80 %, for 60 s each unless said: on a virtual clock with
constant service; on the real clock with a constant service of 2 ms of work; and on the real clock with the demo's
artifact (a batch of 16 on one thread). Printed is the mean latency over that of M/D/1 with the mean service time of the
same run, and over that of M/G/1 with its variance as well (Pollaczek-Khinchine), which is what M/D/1 becomes where
service times vary. Both take service times as independent of each other; a machine whose speed comes and goes queues
longer than that.
"""

import sys
import time

import numpy as np
from demo_artifact import demo_artifact

from zygal.bench.arrivals import RealClock, VirtualClock, poisson_arrivals, serve_arrivals
from zygal.bench.feeds import Given
from zygal.bench.measure import warm_up
from zygal.bench.settings import Setting
from zygal.bench.subjects import ArtifactSubject

CONSTANT_SECONDS = 0.002


def main():
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60
    for load in (0.5, 0.8):
        clock = VirtualClock()

        def pass_time(_, clock=clock):
            clock.moment += CONSTANT_SECONDS

        arrivals = poisson_arrivals(load / CONSTANT_SECONDS, 200_000)
        report("virtual clock, constant service", serve_arrivals(arrivals, pass_time, 1, 0.0, clock), arrivals)
    on_real_clock("constant service", work, CONSTANT_SECONDS, seconds)
    with demo_artifact() as artifact:
        run = ArtifactSubject(artifact, Given()).run_at(Setting(16, 1))
        warm_up(run)
        overall = serve_arrivals(np.full(300, 1e-9), lambda _: run(), 1, 0.0, RealClock())
        on_real_clock("the artifact", lambda _: run(), overall.service_seconds.mean(), seconds)


def on_real_clock(what, serve, service, seconds):
    for load in (0.5, 0.8):
        arrivals = poisson_arrivals(load / service, int(seconds * load / service), seed=1)
        report(f"real clock, {what}", serve_arrivals(arrivals, serve, 1, 0.0, RealClock()), arrivals)


def work(_):
    end = time.perf_counter() + CONSTANT_SECONDS
    while time.perf_counter() < end:
        pass


def report(what, served, arrivals):
    service, square = served.service_seconds.mean(), np.square(served.service_seconds).mean()
    rate = len(arrivals) / arrivals[-1]
    load = rate * service
    found = served.latencies.mean()
    deterministic = service + load * service / (2 * (1 - load))
    general = service + rate * square / (2 * (1 - load))
    print(
        f"{what}: load {load:.3f}, {len(arrivals)} arrivals, service {service * 1e3:.3f} ms (deviation "
        f"{served.service_seconds.std() / service:.2f} of it), mean latency {found * 1e3:.3f} ms: "
        f"{found / deterministic:.3f} of M/D/1, {found / general:.3f} of M/G/1"
    )


if __name__ == "__main__":
    main()
