"""The same stack on a pool of processes and on a real local Dask cluster: identical pictures."""

from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

import numpy as np
import pytest
import tifffile
from dask.distributed import LocalCluster, default_client
from starfield import Field, make

from vinter.core.stack.pipeline import Settings, stack
from vinter.web.jobs.worker import make_pool


@pytest.mark.long("a scheduler with workers of its own is started")
def test_a_cluster_gives_the_same_picture(tmp_path):
    make(tmp_path, Field(count=5, width=800, height=600, stars=300, focal=600.0, streak=2))
    with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as pool:
        here = stack([tmp_path], tmp_path.parent / "here.tif", Settings(), pool=pool)
    with LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None) as cluster:
        pool = make_pool(2, cluster.scheduler_address)
        there = stack([tmp_path], tmp_path.parent / "there.tif", Settings(), pool=pool)
        pool.shutdown()
        default_client().close()
    assert here.report["frames_used"] == there.report["frames_used"] == 5
    assert np.array_equal(tifffile.imread(here.picture), tifffile.imread(there.picture))
