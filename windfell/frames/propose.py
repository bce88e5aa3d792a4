"""Which sets a card of frames seems to hold: from times, exposures, focal lengths and likeness; where the files say
nothing of times, from what the frames show.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cache

import numpy as np

from windfell.frames.by_content import BRACKET_EV, COINCIDE, PATTERN_EV, groups_by_content
from windfell.frames.shots import Form, Group, Relation, Relations, Shot, alike_shape, alike_size, natural

GAP_S = 300.0
PAUSE_S, PAUSE_TIMES = 8.0, 2.5
FOCAL_STEP = 0.05
LEAST_SERIES, LEAST_POSITIONS, SERIES_SHARE = 3, 3, 0.8
TIMES_SHARE = 0.25
BURST_SHARE, MOST_BURSTS = 0.5, 0.6
MOST_LONE = 12


class Likeness:
    """Answers about pairs of shots; each is asked for once."""

    def __init__(
        self, same: Callable[[Shot, Shot], float], relation: Callable[[Shot, Shot], Relation | None],
        among: Callable[[Sequence[Shot]], Relations], look: Callable[[Shot, Shot], float] | None = None,
        blank: Callable[[Shot], bool] | None = None,
        together: Callable[[Sequence[Shot]], frozenset[str]] | None = None,
    ) -> None:
        """`same` is a correlation of the two in place, -1..1; `relation` what they share, if anything; `among` those
        of all of many shots; `look` how alike their colours are, the more the greater; `blank` whether a shot is so
        burnt out or dark that nothing can be seen of it; `together` which of many Align brings together, by path.
        """
        self._same, self._relation, self.among = same, relation, among
        self.look = look or (lambda a, b: 0.0)
        self.blank = cache(blank or (lambda a: False))
        self.together = together or (lambda shots: frozenset())
        self._known: dict[tuple[str, str], float] = {}
        self._relations: dict[tuple[str, str], Relation | None] = {}

    def same(self, a: Shot, b: Shot) -> bool:
        """Whether the camera stood still between them, however it was exposed."""
        key = a.path, b.path
        if key not in self._known:
            self._known[key] = self._same(a, b) if alike_size(a, b, True) else -1.0
        evs = (a.exposure_ev, b.exposure_ev)
        differs = None not in evs and abs(evs[0] - evs[1]) > BRACKET_EV
        return self._known[key] > (0.4 if differs else 0.62)

    def related(self, a: Shot, b: Shot) -> bool:
        """Whether they share anything."""
        return self.same(a, b) or self._related(a, b) is not None

    def coincide(self, a: Shot, b: Shot) -> bool:
        """Whether they show nearly the same, be the camera held by hand."""
        if self.same(a, b):
            return True
        found = self._related(a, b) if alike_size(a, b, True) else None
        return found is not None and found.overlap >= COINCIDE

    def _related(self, a: Shot, b: Shot) -> Relation | None:
        key = a.path, b.path
        if key not in self._relations:
            self._relations[key] = self._relation(a, b)
        return self._relations[key]


def grouped(shots: Sequence[Shot], like: Likeness) -> list[Group]:
    """The sets that shots seem to form, in the order of their times; a lone shot is offered with the nearest set."""
    videos = [Group(Form.VIDEO, (s,)) for s in sorted(shots, key=natural) if s.video]
    stills, doubled = _without_doubles([s for s in shots if not s.video])
    timed, untimed = _with_times(stills)
    found = [part for own in _by_camera(timed) for run in _runs(own) for part in _parts(run, like)]
    found.sort(key=lambda g: _order(g.shots[0]))
    if untimed:
        found += groups_by_content(untimed, like.among(untimed))
    return [_with_doubles(g, doubled) for g in _with_lone_offered(found, like)] + videos


def _with_times(shots: Sequence[Shot]) -> tuple[list[Shot], list[Shot]]:
    """Shots whose times say something, and the others: those of files that were all written at once do not."""
    timed = [s for s in shots if s.taken]
    if len({s.taken for s in timed}) <= TIMES_SHARE * len(timed):
        timed = []
    return timed, [s for s in shots if s not in timed]


def _by_camera(timed: list[Shot]) -> list[list[Shot]]:
    """Each camera's shots by their time: of two at work at once neither parts what the other takes."""
    own: dict[str | None, list[Shot]] = defaultdict(list)
    for s in sorted(timed, key=_order):
        own[s.camera].append(s)
    return list(own.values())


def _with_lone_offered(groups: list[Group], like: Likeness) -> list[Group]:
    """Groups of one shot put aside in that group which is nearest: in time, or else by its colours. Where all are
    alone, they are one. Those without times are held against each other, and against the group, as Align does.
    """
    lone = [g.shots[0] for g in groups if len(g.shots) == 1]
    out = [g for g in groups if len(g.shots) > 1]
    if not out:
        return [Group(Form.SWEEP, tuple(lone))] if lone else []
    # frames of frames have no room for it
    fair = [n for n, g in enumerate(out) if not g.positions] or list(range(len(out)))
    offered: dict[int, list[Shot]] = defaultdict(list)
    for shot in lone:
        offered[min(fair, key=lambda n, of=shot: _farness(of, out[n], like))].append(shot)
    for at, some in offered.items():
        out[at] = _joined(out[at], some, like)
        offered[at] = [s for s in some if s not in out[at].shots]
    untimed = [s for some in offered.values() for s in some if not s.taken]
    while 1 < len(untimed) <= MOST_LONE and (found := like.together(untimed)):
        out.append(Group(Form.SWEEP, tuple(s for s in untimed if s.path in found)))
        untimed = [s for s in untimed if s.path not in found]
        offered = {at: [s for s in some if s.path not in found] for at, some in offered.items()}
    for at, some in offered.items():
        g = out[at]
        out[at] = replace(g, shots=(*g.shots, *some), aside=g.aside | {s.path for s in some})
    return out


def _joined(group: Group, some: Sequence[Shot], like: Likeness) -> Group:
    """The group with those of more shots that Align joins to it."""
    if group.form is not Form.SWEEP or len(some) > MOST_LONE or any(s.taken for s in (*group.shots, *some)):
        return group
    own = [s for s in group.shots if s.path not in group.aside]
    found = like.together([*own, *some])
    if not found >= {s.path for s in own}:
        return group
    return replace(group, shots=tuple(sorted((*group.shots, *(s for s in some if s.path in found)), key=natural)))


def _farness(shot: Shot, group: Group, like: Likeness) -> tuple[bool, float]:
    own = [s for s in group.shots if s.path not in group.aside]
    if shot.taken and all(s.taken for s in own):
        return False, min(abs((s.taken - shot.taken).total_seconds()) for s in own)
    alike = sorted((like.look(shot, s) for s in own), reverse=True)[:LEAST_SERIES]
    return True, -float(np.mean(alike))


def _order(shot: Shot) -> tuple:
    return (shot.taken is None, shot.taken.timestamp() if shot.taken else 0.0, natural(shot))


def _without_doubles(shots: Sequence[Shot]) -> tuple[list[Shot], dict[str, list[Shot]]]:
    """The shots without developed doubles of raws and smaller copies, and those by the path of what they double."""
    by_stem, by_time = defaultdict(list), defaultdict(list)
    for s in shots:
        by_stem[s.stem].append(s)
        if s.taken:
            by_time[s.taken, s.camera].append(s)
    doubled: dict[str, list[Shot]] = defaultdict(list)
    gone = set()
    for bunch in (*by_stem.values(), *by_time.values()):
        raws = [s for s in bunch if s.raw]
        others = [s for s in bunch if not s.raw and s.path not in gone]
        if len(raws) == 1 and len(others) == 1:
            doubled[raws[0].path].append(others[0])
            gone.add(others[0].path)
    for bunch in by_time.values():
        others = [s for s in bunch if not s.raw and s.path not in gone]
        largest = max(others, key=lambda s: s.size, default=None)
        smaller = [s for s in others if not alike_size(s, largest)]
        if len(others) - len(smaller) == 1 and all(alike_shape(s, largest) for s in smaller):
            doubled[largest.path] += smaller
            gone |= {s.path for s in smaller}
    return [s for s in shots if s.path not in gone], doubled


def _with_doubles(group: Group, doubled: dict[str, list[Shot]]) -> Group:
    def filled(shots: Sequence[Shot]) -> tuple[Shot, ...]:
        return tuple(x for s in shots for x in (s, *doubled.get(s.path, ())))

    shots = filled(group.shots)
    aside = group.aside | frozenset(s.path for s in shots) - {s.path for s in group.shots}
    return Group(group.form, shots, aside, tuple(filled(p) for p in group.positions))


def _runs(shots: Sequence[Shot]) -> list[list[Shot]]:
    """One camera's shots parted where it is plain: long pauses, another size or focal length."""
    runs: list[list[Shot]] = []
    for s in shots:
        if runs and not _plainly_apart(runs[-1][-1], s):
            runs[-1].append(s)
        else:
            runs.append([s])
    return _rejoined(runs)


def _plainly_apart(a: Shot, b: Shot) -> bool:
    if abs((b.taken - a.taken).total_seconds()) > GAP_S:
        return True
    if a.focal_mm and b.focal_mm and abs(np.log(a.focal_mm / b.focal_mm)) > FOCAL_STEP:
        return True
    return not alike_size(a, b)


def _rejoined(runs: list[list[Shot]]) -> list[list[Shot]]:
    """One odd shot amid a run, as with another zoom by mistake, stays in it."""
    out: list[list[Shot]] = []
    n = 0
    while n < len(runs):
        inside = 0 < n < len(runs) - 1 and len(runs[n]) == 1
        if inside and out and not _plainly_apart(out[-1][-1], runs[n + 1][0]) and _in_step(
                out[-1][-1], runs[n][0], runs[n + 1][0]):
            out[-1] += runs[n] + runs[n + 1]
            n += 2
        else:
            out.append(list(runs[n]))
            n += 1
    return out


def _in_step(a: Shot, b: Shot, c: Shot) -> bool:
    if not (a.taken and b.taken and c.taken):
        return False
    return (c.taken - a.taken).total_seconds() < 4 * PAUSE_S


def _parts(run: list[Shot], like: Likeness) -> list[Group]:
    """The sets within a run, by likeness at its pauses and by what stood still."""
    parts: list[list[Shot]] = [[run[0]]]
    pace = _pace(run)
    for n in range(1, len(run)):
        if _new_set(run, n, pace, like):
            parts.append([])
        parts[-1].append(run[n])
    return [g for part in parts for g in _formed(part, like)]


def _pace(run: list[Shot]) -> float:
    """Seconds from one shot to the next as a rule; of bursts, from one position to the next."""
    steps = _steps(run)
    length = burst_length(run)
    if length:
        steps = steps[length - 1 :: length]
    return float(np.median(steps)) if steps else 0.0


def _steps(run: list[Shot]) -> list[float]:
    return [(b.taken - a.taken).total_seconds() for a, b in itertools.pairwise(run) if a.taken and b.taken]


def burst_length(run: list[Shot]) -> int:
    """How many shots come quickly one after the other, again and again, with a pause between; 0 where they do not."""
    steps = np.array(_steps(run))
    if len(steps) != len(run) - 1:
        return 0
    for length in range(2, len(run) // LEAST_POSITIONS + 1):
        if len(run) % length:
            continue
        pause = np.arange(len(steps)) % length == length - 1
        if steps[~pause].max() < BURST_SHARE * steps[pause].min():
            return length
    return 0


def _new_set(run: list[Shot], n: int, pace: float, like: Likeness) -> bool:
    a, b = run[n - 1], run[n]
    if a.taken and b.taken:
        pause = (b.taken - a.taken).total_seconds()
        if pause <= max(PAUSE_S, PAUSE_TIMES * pace):
            return False
    if like.related(a, b):
        return False
    beyond = n + 1 < len(run) and like.related(a, run[n + 1])
    behind = n > 1 and like.related(run[n - 2], b)
    return not (beyond or behind)


def _formed(part: list[Shot], like: Likeness) -> list[Group]:
    blocks: list[list[Shot]] = [[part[0]]]
    for shot in part[1:]:
        if _goes_on(blocks[-1], shot, like):
            blocks[-1].append(shot)
        else:
            blocks.append([shot])
    brackets = brackets_of(blocks)
    if brackets:
        return [Group(Form.BRACKET, tuple(part), positions=tuple(tuple(p) for p in brackets))]
    bursts = blocks if _are_bursts(blocks, like) else _bursts_by_time(part, like)
    if bursts:
        return [Group(Form.BRACKET, tuple(part), positions=tuple(map(tuple, bursts)))]
    closer = _looked_closely(part, like) if len(blocks) > 1 else []
    if closer:
        return closer
    out: list[Group] = []
    sweep: list[Shot] = []
    for block in blocks:
        if len(block) >= LEAST_SERIES or (len(block) == len(part) > 1):
            if sweep:
                out.append(Group(Form.SWEEP, tuple(sweep)))
                sweep = []
            out.append(Group(Form.SERIES, tuple(block)))
        else:
            sweep += block
    if sweep:
        out.append(Group(Form.SWEEP, tuple(sweep)))
    return _strays_taken_back(out)


def _goes_on(block: list[Shot], shot: Shot, like: Likeness) -> bool:
    """Whether the camera stood still from a block of shots to the next. Of one that is exposed as none before, and so
    far off that nothing can be seen, its place among exposures tells.
    """
    seen = [s for s in block if not like.blank(s)]
    evs = [s.exposure_ev for s in (*block, shot)]
    as_none = None not in evs and min(abs(e - evs[-1]) for e in evs[:-1]) > BRACKET_EV
    if as_none and (not seen or like.blank(shot)):
        return True
    before = seen[-1] if seen and not like.blank(shot) else block[-1]
    return like.same(before, shot) or (_exposures_differ([before, shot]) and like.coincide(before, shot))


def _are_bursts(blocks: list[list[Shot]], like: Likeness) -> bool:
    """Whether these are bursts of one length, at positions that overlap."""
    length = len(blocks[0])
    if len(blocks) < LEAST_POSITIONS or length < 2 or any(len(b) != length for b in blocks):
        return False
    return all(like.related(a[0], b[0]) and not like.coincide(a[0], b[0]) for a, b in itertools.pairwise(blocks))


def _bursts_by_time(part: list[Shot], like: Likeness) -> list[list[Shot]]:
    """The bursts that their times tell, where most of them stand still and most go on to another view: of a plain sky
    or ground no likeness can be seen.
    """
    length = burst_length(part)
    if not length:
        return []
    blocks = [part[k : k + length] for k in range(0, len(part), length)]
    still = [like.coincide(a, b) for block in blocks for a, b in itertools.pairwise(block)]
    on = [not like.coincide(a[0], b[0]) for a, b in itertools.pairwise(blocks)]
    return blocks if min(np.mean(still), np.mean(on)) >= MOST_BURSTS else []


def _looked_closely(part: list[Shot], like: Likeness) -> list[Group]:
    """The set that a part is by what its frames show, where previews suggest that they nearly coincide, or say too
    little; nothing where they do not.
    """
    at = len(part) // 2
    middle, beside = part[at], [part[n] for n in (at - 1, at + 1) if 0 <= n < len(part)]
    if len(part) < 2 or not (any(like.coincide(middle, s) for s in beside) or not like.related(middle, beside[0])):
        return []
    found = groups_by_content(part, like.among(part))
    whole = next((g for g in found if len(g.shots) >= SERIES_SHARE * len(part) and g.form is not Form.SWEEP), None)
    return [] if whole is None else [Group(whole.form, tuple(part), whole.aside, whole.positions)]


def _exposures_differ(part: list[Shot]) -> bool:
    known = [s.exposure_ev for s in part if s.exposure_ev is not None]
    return bool(known) and float(np.ptp(known)) > BRACKET_EV


def _strays_taken_back(groups: list[Group]) -> list[Group]:
    """A single shot between two parts of one series was something that passed, not a set."""
    out: list[Group] = []
    for g in groups:
        if len(out) >= 2 and g.form is Form.SERIES and out[-2].form is Form.SERIES and len(out[-1].shots) <= 2:
            stray, first = out.pop(), out.pop()
            g = Group(Form.SERIES, first.shots + stray.shots + g.shots)
        out.append(g)
    return out


def brackets_of(blocks: list[list[Shot]]) -> list[list[Shot]]:
    """The positions of a bracket: blocks of one length whose exposures step alike; or nothing."""
    length = min(len(b) for b in blocks)
    if length < 2 or any(len(b) % length for b in blocks):
        return []
    cut = [b[k : k + length] for b in blocks for k in range(0, len(b), length)]
    patterns = [[s.exposure_ev for s in c] for c in cut]
    if any(e is None for p in patterns for e in p):
        return []
    if len(cut) == 1 and len(blocks) == 1:
        length = period_of(patterns[0])
        if length:
            cut = [blocks[0][k : k + length] for k in range(0, len(blocks[0]), length)]
            patterns = [[s.exposure_ev for s in c] for c in cut]
    first = np.array(patterns[0]) - patterns[0][0]
    if np.ptp(first) < BRACKET_EV or not _steps_alike(patterns, first):
        return []
    if len(cut) > 1 and len(blocks) == 1:
        return [blocks[0]]
    return cut


def period_of(pattern: list[float]) -> int:
    """The shortest cycle that exposures run through, or 0."""
    for k in range(2, len(pattern) // 2 + 1):
        if len(pattern) % k == 0 and all(abs(pattern[n] - pattern[n % k]) < PATTERN_EV for n in range(len(pattern))):
            return k
    return 0


def _steps_alike(patterns: list[list[float]], first: np.ndarray) -> bool:
    return all(np.abs(np.array(p) - p[0] - first).max() < PATTERN_EV for p in patterns)
