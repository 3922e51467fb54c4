"""The list of all kinds of jobs; the one place that knows every use case that runs in a process of its own."""

from diadoche.services import (
    caring,
    converting,
    identifying,
    looking,
    offloading,
    pacing,
    picturing,
    recognising,
    restoring,
    taking_in,
    verifying,
)
from diadoche.services.queue.kinds import JobKind

ALL_KINDS: dict[str, JobKind] = {
    kind.name: kind
    for kind in (
        looking.KIND,
        offloading.KIND,
        identifying.KIND,
        converting.KIND,
        verifying.KIND,
        recognising.KIND,
        picturing.KIND,
        pacing.KIND,
        caring.COPY_ON,
        caring.LEVEL,
        restoring.KIND,
        taking_in.TAKE_IN,
        taking_in.REBUILD,
    )
}
