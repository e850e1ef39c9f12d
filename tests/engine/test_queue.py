"""The memory-aware queue and the batching of a build, without a process."""

from __future__ import annotations

from collections.abc import Iterable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.support.plans import planned
from young_prism.core.render.results import PriorResult
from young_prism.engine.build.batching import slice_jobs
from young_prism.engine.build.work import RemainingWork
from young_prism.engine.workers.protocol import PullIterator
from young_prism.engine.workers.queue import MemoryAwareQueue, Task


def queue_of(memory: int, sizes: Iterable[int]) -> MemoryAwareQueue[int]:
    return MemoryAwareQueue((Task(number, number, size) for number, size in enumerate(sizes)), memory)


def take(queue: MemoryAwareQueue[int], jobs: int = 2, *, quick_only: bool = False) -> Task[int] | None:
    return queue.take(quick_only=quick_only, quick=lambda task: task.memory <= 10, jobs=jobs)


def end(queue: MemoryAwareQueue[int], task: Task[int]) -> None:
    queue.memory_in_use -= task.memory


def test_a_task_that_is_larger_than_all_memory_runs_alone() -> None:
    queue = queue_of(100, [500, 5])
    large = take(queue)
    assert large and large.item == 0 and take(queue) is None
    end(queue, large)
    small = take(queue)
    assert small and small.item == 1


def test_small_tasks_overtake_one_that_waits_only_so_often() -> None:
    queue = queue_of(100, [60, 90, *[1] * 50])
    first = take(queue, jobs=1)
    assert first and first.item == 0
    overtaking = []
    while task := take(queue, jobs=1):
        overtaking.append(task)
        end(queue, task)
    assert [task.item for task in overtaking] == list(range(2, 2 + len(overtaking)))
    assert 0 < len(overtaking) <= 8  # then everything waits for the large one, however much memory is free
    end(queue, first)
    large = take(queue, jobs=1)
    assert large and large.item == 1
    end(queue, large)
    following = take(queue, jobs=1)
    assert following and following.item == overtaking[-1].item + 1


def test_a_second_task_for_a_busy_worker_is_a_quick_one_and_a_slow_one_is_kept() -> None:
    queue = queue_of(1000, [50, 5])
    assert take(queue, quick_only=True) is None
    slow = take(queue)
    quick = take(queue, quick_only=True)
    assert slow and slow.item == 0 and quick and quick.item == 1


def test_a_task_that_is_put_back_comes_first() -> None:
    queue = queue_of(1000, [1, 2, 3])
    first = take(queue)
    assert first
    end(queue, first)
    queue.put_back(first)
    assert take(queue) is first


@given(st.lists(st.integers(1, 120), max_size=40), st.integers(1, 3))
def test_every_task_is_handed_out_once_and_memory_is_never_exceeded(sizes: list[int], jobs: int) -> None:
    queue, running, handed_out = queue_of(100, sizes), [], []
    while True:
        task = take(queue, jobs) if len(running) < jobs else None
        if task:
            running.append(task)
            handed_out.append(task.item)
            assert len(running) == 1 or sum(task.memory for task in running) <= 100
        elif running:
            end(queue, running.pop(0))
        else:
            break
    assert sorted(handed_out) == list(range(len(sizes)))


def test_an_iterator_that_had_nothing_is_asked_again() -> None:
    items = [[1], [], [2]]
    pull: PullIterator[int] = PullIterator(lambda: next(iter(items.pop(0)), None) if items else None)
    assert (list(pull), list(pull), list(pull)) == ([1], [2], [])


SEARCHED = "avif = { target = 70 }\nwebp = { target = 70 }\njpeg = {}"
PLAIN = "avif = {}\njpeg = {}"


def remaining(path: str = "a.jpg", formats: str = PLAIN, known: dict[str, PriorResult] = {}) -> RemainingWork:  # noqa: B006
    return RemainingWork(planned(path, (2000, 3000, 4000), formats, width=4000, height=3000), known, {})


def test_the_longest_original_comes_first_and_the_last_straggler_is_divided() -> None:
    small = RemainingWork(planned("a.jpg", (100,)), {}, {})
    slices = list(slice_jobs([small, remaining("b.jpg")], workers=2))
    assert [piece.job.work.original.path for piece in slices] == ["b.jpg", "b.jpg", "a.jpg"]
    assert slices[2].paths is None


@pytest.mark.parametrize("formats", [PLAIN, SEARCHED])
@pytest.mark.parametrize("workers", [2, 5])
def test_slices_of_an_original_are_all_of_it_once_and_searches_stay_together(
    formats: str, workers: int
) -> None:
    work = remaining(formats=formats)
    slices = list(slice_jobs([work], workers))
    assert 1 < len(slices) <= workers
    assert all(piece.job is slices[0].job for piece in slices) and slices[0].job.parts == len(slices)
    paths = [path for piece in slices for path in piece.paths or ()]
    assert sorted(paths) == sorted(rendition.path for rendition in work.original.renditions)
    assert [piece.work for piece in slices] == sorted((piece.work for piece in slices), reverse=True)
    if formats == SEARCHED:
        for ending in ("avif", "webp"):
            assert sum(any(path.endswith(ending) for path in piece.paths or ()) for piece in slices) == 1


def test_an_original_is_not_divided_while_there_is_enough_to_do_or_where_bytes_are_compared_with_what_was_dropped() -> (
    None
):
    slices = list(slice_jobs([remaining(f"{number}.jpg") for number in range(12)], 2))
    assert all(piece.paths is None for piece in slices[:9])
    first = remaining().original.renditions[0].path
    pieces = list(slice_jobs([remaining(known={first: PriorResult(5, delivered=False)})], 4))
    assert [piece.paths for piece in pieces] == [None]
