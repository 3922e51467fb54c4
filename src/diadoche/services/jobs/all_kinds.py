"""The list of all kinds of jobs; the one place that knows every use case that runs in a process of its own."""

from diadoche.services.jobs import (
    adopt_folder,
    calibrate,
    card_pictures,
    compare_card,
    copy_on,
    identify,
    level,
    list_card,
    make_output,
    measure_playback,
    offload,
    rebuild,
    restore,
    stitch,
    verify,
)
from diadoche.services.jobs.job_kind import JobKind

ALL_KINDS: dict[str, JobKind] = {
    kind.name: kind
    for kind in (
        list_card.KIND,
        offload.KIND,
        identify.KIND,
        make_output.KIND,
        stitch.KIND,
        calibrate.KIND,
        verify.KIND,
        compare_card.KIND,
        card_pictures.KIND,
        measure_playback.KIND,
        copy_on.KIND,
        level.KIND,
        restore.KIND,
        adopt_folder.KIND,
        rebuild.KIND,
    )
}
