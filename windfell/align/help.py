"""What people add to a registration: points, lines, poses, points thrown out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import ArrayLike, NDArray

from windfell.align.adjust import Guide, Observations, error_px, jacobian
from windfell.align.cameras import Cameras, rays_of
from windfell.align.focal import pair_turn
from windfell.align.level import levelled
from windfell.align.registration import PairFit, Placed
from windfell.align.solve import Ground
from windfell.geometry.posed import Posed
from windfell.geometry.rotation import from_rotvec, from_yaw_pitch_roll, mean_rotation, to_rotvec

Array = NDArray[np.float64]

LEAST_TO_JOIN = 2
HAND_PULL = 1.5
HAND_REACH = 4.0
LINE_PULL = 30.0
SLOPE = 1e-6


@dataclass(frozen=True)
class HandPoint:
    """A control point made by hand: px in frame `a`, px in frame `b`, and how much it counts (1: as it is)."""

    a: int
    b: int
    at_a: tuple[float, float]
    at_b: tuple[float, float]
    weight: float = 1.0


@dataclass(frozen=True)
class PlumbLine:
    """Points (px) along something in a frame that is "level", "upright" or just "straight"."""

    frame: int
    points: tuple[tuple[float, float], ...]
    kind: str


@dataclass(frozen=True)
class HandPose:
    """Angles of a frame in the level world, in degrees (see `from_yaw_pitch_roll`)."""

    frame: int
    yaw_deg: float
    pitch_deg: float
    roll_deg: float


@dataclass(frozen=True)
class Help:
    """All of it. `dropped` names found points that don't count: (a, b, x, y of `a` to the nearest px);
    `worst_px` drops all found points that the ground finds worse. `layout` (rows, columns): frames were taken row by
    row; one that holds to nothing is laid between its neighbours.
    """

    points: tuple[HandPoint, ...] = ()
    lines: tuple[PlumbLine, ...] = ()
    poses: tuple[HandPose, ...] = ()
    dropped: frozenset[tuple[int, int, int, int]] = frozenset()
    worst_px: float | None = None
    layout: tuple[int, int] | None = None


@dataclass(frozen=True)
class Helped:
    """The ground with help: who is a member now, where everything starts, what guides it."""

    cameras: Cameras
    members: tuple[int, ...]
    held: tuple[Observations, ...]
    by_hand: tuple[Observations, ...]
    guides: tuple[Guide, ...]
    upright: bool
    changed: bool


def with_help(ground: Ground, help_: Help) -> Helped:
    """The ground's frames and those that hand-made points or poses join to them, guided by lines."""
    held = tuple(_kept(ground.cameras, o, help_) for o in ground.held)
    by_hand = _hand_observations(help_.points)
    cameras = _worldly(ground.cameras, ground.members, help_)
    cameras, members = _joined(cameras, set(ground.members), by_hand, help_.poses)
    if help_.layout is not None and cameras.places is None and members:
        cameras, members = _laid_between(cameras, members, *help_.layout)
    inside = [o for o in by_hand if o.a in members and o.b in members]
    guides = [Guide(_point_rows(o)) for o in inside]
    guides += [Guide(_line_rows(line)) for line in help_.lines if line.frame in members]
    by_poses = bool(help_.poses) and cameras.places is None
    upright = by_poses or any(line.kind != "straight" for line in help_.lines)
    return Helped(cameras, tuple(sorted(members)), held, tuple(inside), tuple(guides), upright, help_ != Help())


def _kept(cameras: Cameras, o: Observations, help_: Help) -> Observations:
    keep = np.ones(len(o.points_a), bool)
    if help_.dropped:
        keep &= [name not in help_.dropped for name in point_names(o.a, o.b, o.points_a)]
    if help_.worst_px is not None and len(keep):
        keep &= error_px(cameras, o) <= help_.worst_px
    return o if keep.all() else o.chosen(keep)


def meeting_points(ground: Ground, found: Sequence[Observations], help_: Help) -> list[Observations]:
    """All points, by frame number, that are to meet when parallax is evened out: of the found ones those that nobody
    dropped, each with weight 1, and those made by hand.
    """
    found = [_kept(ground.cameras, o, replace(help_, worst_px=None)) for o in found]
    return [replace(o, weight=None) for o in found] + _hand_observations(help_.points)


def point_name(a: int, b: int, at_a: Sequence[float]) -> tuple[int, int, int, int]:
    """By which a found point is dropped."""
    return point_names(a, b, [at_a])[0]


def point_names(a: int, b: int, at_a: ArrayLike) -> list[tuple[int, int, int, int]]:
    """As `point_name`, of points (n, 2)."""
    return [(a, b, x, y) for x, y in np.rint(np.asarray(at_a, float).reshape(-1, 2)).astype(int).tolist()]


def _hand_observations(points: Sequence[HandPoint]) -> list[Observations]:
    pairs: dict[tuple[int, int], list[HandPoint]] = {}
    for p in points:
        pairs.setdefault((p.a, p.b), []).append(p)
    return [
        Observations(a, b, np.array([p.at_a for p in own]), np.array([p.at_b for p in own]),
                     np.array([p.weight for p in own]))
        for (a, b), own in pairs.items()]


def _worldly(cameras: Cameras, members: Sequence[int], help_: Help) -> Cameras:
    """The cameras in a level world, so that lines and poses know where up is."""
    if not members or cameras.places is not None:
        return cameras
    own = list(members)
    turned = levelled([cameras.rotations[n] for n in own])
    posed = {p.frame: _rotation(p) for p in help_.poses}
    known = [(turned[own.index(n)], r) for n, r in posed.items() if n in own]
    if known:
        # the whole turned so that the posed frames lie as they are said to
        common = mean_rotation([r @ t.T for t, r in known])
        turned = [common @ t for t in turned]
    rotations = cameras.rotations.copy()
    rotations[own] = turned
    return cameras.turned(rotations)


def _rotation(pose: HandPose) -> Array:
    return from_yaw_pitch_roll(*np.radians([pose.yaw_deg, pose.pitch_deg, pose.roll_deg]))


def _joined(
    cameras: Cameras, members: set[int], by_hand: Sequence[Observations], poses: Sequence[HandPose]
) -> tuple[Cameras, set[int]]:
    """Frames with a pose by hand, and those with points to members, placed and made members."""
    rotations, locked = cameras.rotations.copy(), cameras.locked.copy()
    for pose in poses if cameras.places is None else ():
        rotations[pose.frame], locked[pose.frame] = _rotation(pose), True
        members.add(pose.frame)
    cameras = replace(cameras, rotations=rotations, locked=locked)
    if not members and by_hand:
        members = {max(by_hand, key=lambda o: len(o.points_a)).a}
    while True:
        ready = [o for o in by_hand if (o.a in members) != (o.b in members) and len(o.points_a) >= LEAST_TO_JOIN]
        if not ready or cameras.places is not None:
            return cameras, members
        o = max(ready, key=lambda o: len(o.points_a))
        turn = pair_turn(cameras, o)
        rotations = cameras.rotations.copy()
        if o.a in members:
            rotations[o.b] = rotations[o.a] @ turn.T
        else:
            rotations[o.a] = rotations[o.b] @ turn
        cameras = cameras.turned(rotations)
        members |= {o.a, o.b}


def _laid_between(cameras: Cameras, members: set[int], rows: int, columns: int) -> tuple[Cameras, set[int]]:
    """Frames without any hold (plain sky, sea) placed halfway between neighbours, or one step beyond two of them."""
    rotations, locked, known = cameras.rotations.copy(), cameras.locked.copy(), set(members)
    for n in range(rows * columns):
        if n in members:
            continue
        y, x = divmod(n, columns)
        for dy, dx in ((0, 1), (1, 0)):
            at = {k: (y + k * dy) * columns + x + k * dx for k in (-2, -1, 1, 2)
                  if 0 <= y + k * dy < rows and 0 <= x + k * dx < columns}
            near = {k: rotations[m] for k, m in at.items() if m in members}
            found = _from_neighbours(near)
            if found is not None:
                rotations[n], locked[n] = found, True
                known.add(n)
                break
    return replace(cameras, rotations=rotations, locked=locked), known


def _from_neighbours(near: dict[int, Array]) -> Array | None:
    if -1 in near and 1 in near:
        return near[-1] @ _part(near[-1].T @ near[1], 0.5)
    for side in (-1, 1):
        if side in near and 2 * side in near:
            return near[side] @ near[2 * side].T @ near[side]
    return None


def _part(turn: Array, share: float) -> Array:
    """A share of a rotation about its own axis."""
    return from_rotvec(share * to_rotvec(turn))


def _point_rows(o: Observations):
    """Hand-made points pull strongly within some px; one that lies far off shows its error and pulls little."""
    n = len(o.points_a)
    a, b = np.full(n, o.a), np.full(n, o.b)

    def rows(cameras: Cameras) -> tuple[float, Array, Array]:
        residual, jac = jacobian(cameras, a, b, o.points_a, o.points_b)
        reach = max(HAND_REACH, float(cameras.sizes.max()) / 800)
        r2 = np.sum(residual * residual, axis=1) / reach**2
        rho = 0.5 * HAND_PULL**2 * reach**2 * float(np.sum(o.weight * r2 / (1 + r2)))
        pull = HAND_PULL * np.sqrt(o.weight) / (1 + r2)
        wide = np.zeros((2 * n, cameras.parameters))
        first, last = 3 * cameras.count, 3 * cameras.count + cameras.lenses.size
        ga, gb = cameras.group[o.a], cameras.group[o.b]
        starts = [(3 * o.a, 3), (3 * o.b, 3), (first + 6 * ga, 6), (first + 6 * gb, 6)]
        if cameras.places is not None:
            starts += [(last + 3 * o.a, 3), (last + 3 * o.b, 3)]
        flat = (jac * pull[:, None, None]).reshape(2 * n, -1)
        at = 0
        for start, width in starts:
            wide[:, start : start + width] += flat[:, at : at + width]
            at += width
        return rho, (residual * pull[:, None]).reshape(-1), wide

    return rows


def line_residuals(cameras: Cameras, line: PlumbLine) -> Array:
    """How far a line is from what it should be, in px at its frame's focal length, (m,).

    Upright: its plane holds the vertical. Level: its ends are equally high. Straight: its inner points lie in
    the plane of its ends. On a flat subject: by the spots of the plane.
    """
    n = len(line.points)
    if cameras.places is not None:
        return _flat_residuals(cameras, line)
    world = rays_of(cameras, np.full(n, line.frame), np.array(line.points)) @ cameras.rotations[line.frame].T
    focal = float(cameras.focal_px[cameras.group[line.frame]])
    normal = np.cross(world[0], world[-1])
    normal /= max(float(np.linalg.norm(normal)), 1e-12)
    parts = []
    if line.kind == "upright":
        parts.append([normal[1]])
    if line.kind == "level":
        parts.append([world[-1, 1] - world[0, 1]])
    if n > 2:
        parts.append(world[1:-1] @ normal)
    return focal * np.concatenate(parts) if parts else np.zeros(0)


def _flat_residuals(cameras: Cameras, line: PlumbLine) -> Array:
    posed = Posed(cameras.lens(line.frame), cameras.rotations[line.frame], cameras.places[line.frame])
    rays = posed.rays(np.array(line.points))
    spots = rays[:, :2] / rays[:, 2:]
    along = spots[-1] - spots[0]
    parts = []
    if line.kind in ("upright", "level"):
        parts.append(along[:1] if line.kind == "upright" else along[1:])
    if len(spots) > 2:
        across = np.array([-along[1], along[0]]) / max(float(np.linalg.norm(along)), 1e-12)
        parts.append((spots[1:-1] - spots[0]) @ across)
    focal = float(cameras.focal_px[cameras.group[line.frame]])
    return focal * np.concatenate(parts) if parts else np.zeros(0)


def line_degrees(place: Placed, points: Sequence[tuple[float, float]], kind: str) -> float:
    """How far a line of a placed frame is from upright or level in the world, in degrees."""
    world = place.posed.rays(np.array([points[0], points[-1]], float))
    if place.place is not None:
        along = np.diff(world[:, :2] / world[:, 2:], axis=0)[0]
        off = along[0] / max(abs(along[1]), 1e-12) if kind == "upright" else along[1] / max(abs(along[0]), 1e-12)
        return float(np.degrees(np.arctan(off)))
    if kind == "upright":
        normal = np.cross(*world)
        return float(np.degrees(np.arcsin(normal[1] / max(float(np.linalg.norm(normal)), 1e-12))))
    along = world[1] - world[0]
    return float(np.degrees(np.arcsin(along[1] / max(float(np.linalg.norm(along)), 1e-12))))


def _line_rows(line: PlumbLine):
    """Rows of a line; few and cheap, so derived by differences."""
    def rows(cameras: Cameras) -> tuple[float, Array, Array]:
        base = line_residuals(cameras, line)
        wide = np.zeros((len(base), cameras.parameters))
        for c in range(3):
            turn = np.zeros(3)
            turn[c] = SLOPE
            rotations = cameras.rotations.copy()
            rotations[line.frame] = from_rotvec(turn) @ rotations[line.frame]
            wide[:, 3 * line.frame + c] = (line_residuals(cameras.turned(rotations), line) - base) / SLOPE
        g = cameras.group[line.frame]
        for c in range(1, 4):
            lenses = cameras.lenses.copy()
            lenses[g, c] += SLOPE
            moved = line_residuals(replace(cameras, lenses=lenses), line)
            wide[:, 3 * cameras.count + 6 * g + c] = (moved - base) / SLOPE
        return 0.5 * LINE_PULL**2 * float(base @ base), LINE_PULL * base, LINE_PULL * wide

    return rows


def with_hand_points(
    fits: Sequence[PairFit], by_hand: Sequence[Observations], cameras: Cameras
) -> list[PairFit]:
    """The links with their hand-made points first; a pair that only people linked becomes a link."""
    own = {(o.a, o.b): o for o in by_hand}
    out = []
    for f in fits:
        o = own.pop((f.a, f.b), None)
        out.append(f if o is None else _with_points(f, o, cameras))
    nothing = np.zeros((0, 2))
    out += [_with_points(PairFit(o.a, o.b, nothing, nothing, 0.0, np.zeros(0)), o, cameras) for o in own.values()]
    return [f for f in out if len(f.points_a)]


def _with_points(f: PairFit, o: Observations, cameras: Cameras) -> PairFit:
    errors = np.concatenate([error_px(cameras, o), f.errors])
    return PairFit(
        f.a, f.b, np.concatenate([o.points_a, f.points_a]), np.concatenate([o.points_b, f.points_b]),
        float(np.sqrt(np.mean(errors**2))), errors, len(o.points_a))
