"""The checks: each looks at a survey and names what it finds. All stand in one table."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable

import numpy as np

from windfell.pixels.fields import Field, was_covered
from windfell.readiness.findings import Finding, Mend, Weight
from windfell.readiness.sharpness import softness
from windfell.readiness.survey import FrameLook, Survey
from windfell.recipe.model import Kind

DRIFT_EV, DRIFT_MIRED, BRACKET_EV = 0.17, 7.0, 0.8
FOCAL_SPREAD = 0.03
SOFT = 0.9
ALIKE_OVERLAP, ALIKE_SHIFT = 0.965, 0.02
BUMP, STILL = 1 / 900, 1 / 2000
PARALLAX = 1 / 320
BURNT_SHARE, BLANK = 0.012, 0.5
LEAST_LIGHTS = 3


def numbers(survey: Survey, places) -> str:
    """Frames by their numbers, in words."""
    return in_words({survey.frames[p].number for p in places})


def in_words(numbered: Iterable[int]) -> str:
    """Frames of these numbers."""
    listed = sorted(numbered)
    if len(listed) == 1:
        return f"Frame {listed[0]}"
    if len(listed) > 6:
        return f"{len(listed)} frames"
    return "Frames " + ", ".join(str(n) for n in listed[:-1]) + f" and {listed[-1]}"


def ids(survey: Survey, places) -> tuple[str, ...]:
    return tuple(survey.frames[p].id for p in sorted(set(places)))


def is_bracket(survey: Survey) -> bool:
    """Whether exposures differ on purpose: by metadata, by much, and in steps that come again."""
    values = [f.exposure_ev for f in survey.frames]
    if any(v is None for v in values) or len(values) < 2:
        return False
    steps = Counter(round(v * 2) / 2 for v in values)
    if max(values) - min(values) < BRACKET_EV or len(steps) < 2:
        return False
    counts = sorted(steps.values())
    return counts[0] == counts[-1] if survey.kind is Kind.PANORAMA else len(steps) >= len(values) / 2


def exposure_drift(survey: Survey) -> list[Finding]:
    if is_bracket(survey):
        return []
    values = [None if d is None else d.ev for d in survey.drifts]
    return _drift(survey, values, DRIFT_EV, "exposure drift", "Exposure drifts by {:.2f} EV",
                  "Steps of brightness show where frames meet.")


def balance_drift(survey: Survey) -> list[Finding]:
    values = [None if d is None else d.mired for d in survey.drifts]
    return _drift(survey, values, DRIFT_MIRED, "white balance drift", "White balance drifts by {:.0f} mired",
                  "Patches of another colour show in the result.")


def _drift(
    survey: Survey, values: list[float | None], most: float, fault: str, title: str, cost: str
) -> list[Finding]:
    """A finding if any frame's value lies farther than `most` from the middle one."""
    known = [v for v in values if v is not None]
    middle = np.median(known) if known else 0.0
    off = [n for n, v in enumerate(values) if v is not None and abs(v - middle) > most]
    if not off:
        return []
    return [Finding(
        fault, Weight.DOUBTFUL, title.format(max(known) - min(known)), cost, ids(survey, off), Mend.MATCH,
        "Match exposure and white balance", True)]


def bracket(survey: Survey) -> list[Finding]:
    if not is_bracket(survey):
        return []
    values = [f.exposure_ev for f in survey.frames]
    return [Finding(
        "bracket", Weight.NOTE, f"Exposures differ on purpose, by {max(values) - min(values):.1f} EV",
        "They are taken for a bracket and left as they are.", ())]


def mixed_focal(survey: Survey) -> list[Finding]:
    known = [(n, f.focal_mm) for n, f in enumerate(survey.frames) if f.focal_mm]
    if len(known) < 2:
        return []
    usual = Counter(round(v, 1) for _, v in known).most_common(1)[0][0]
    off = [n for n, v in known if abs(np.log(v / usual)) > FOCAL_SPREAD]
    if not off:
        return []
    return [Finding(
        "mixed focal length", Weight.DOUBTFUL, f"{numbers(survey, off)}: another focal length",
        f"The others have {usual:g} mm; these join with less certainty and another sharpness.",
        ids(survey, off), Mend.KEEP_ASIDE, "Keep aside")]


def missing_lens(survey: Survey) -> list[Finding]:
    lacking = [n for n, f in enumerate(survey.frames) if f.profile and not f.corrected]
    if not lacking:
        return []
    name = survey.frames[lacking[0]].profile.partition(" | ")[2]
    return [Finding(
        "missing lens correction", Weight.DOUBTFUL, f"The lens is not corrected: {name}",
        "Bent lines fit badly, and darkened corners show as bands.", ids(survey, lacking), Mend.LENS,
        "Correct by the lens database", True)]


def fisheye(survey: Survey) -> list[Finding]:
    if survey.fisheye_deg is None:
        return []
    return [Finding(
        "fisheye", Weight.WRONG, f"A fisheye, it seems: about {survey.fisheye_deg:.0f}° from corner to corner",
        "As pictures of a plain lens the frames do not join, or not truly.", ids(survey, range(len(survey.frames))),
        Mend.FISHEYE, "Correct as a fisheye")]


def doubles(survey: Survey) -> list[Finding]:
    """A raw and a developed picture of the same shot: one stem, or one time and camera."""
    raws = [(n, f) for n, f in enumerate(survey.frames) if f.raw]
    found = []
    for n, f in enumerate(survey.frames):
        if not f.raw and f.source_kind == "file" and any(_same_shot(f, r) for _, r in raws):
            found.append(n)
    if not found:
        return []
    return [Finding(
        "raw and JPEG double", Weight.WRONG, f"{numbers(survey, found)}: the raw of the same shot is in too",
        "The shot counts twice, with two developments.", ids(survey, found), Mend.KEEP_ASIDE,
        "Keep the raws, the others aside", True)]


def _same_shot(a: FrameLook, b: FrameLook) -> bool:
    return a.stem == b.stem and sorted(a.size)[1] / sorted(a.size)[0] - sorted(b.size)[1] / sorted(b.size)[0] < 0.1


def duplicates(survey: Survey) -> list[Finding]:
    places = defaultdict(list)
    for n, f in enumerate(survey.frames):
        places[f.digest].append(n)
    same = [n for group in places.values() for n in group[1:]]
    alike = []
    if survey.kind is Kind.PANORAMA and not is_bracket(survey):
        for p in survey.pairs:
            long = max(survey.frames[p.a].size)
            if p.overlap > ALIKE_OVERLAP and p.shift_px < ALIKE_SHIFT * long and p.b not in same and p.a not in same:
                alike.append(p.b)
    if not same and not alike:
        return []
    words = "a copy of another" if same and not alike else "nearly the same as another"
    return [Finding(
        "duplicate", Weight.DOUBTFUL, f"{numbers(survey, same + alike)}: {words}",
        "It adds nothing, and moving things may show twice.", ids(survey, same + alike), Mend.KEEP_ASIDE,
        "Keep aside", True)]


def soft(survey: Survey) -> list[Finding]:
    behind = softness(survey.frames, survey.pairs)
    stills = [n for n, v in enumerate(behind) if v > SOFT and survey.frames[n].source_kind == "file"]
    moving = [n for n, v in enumerate(behind) if v > SOFT and survey.frames[n].source_kind == "video"]
    out = []
    enough = survey.kind is Kind.STACK and len(survey.frames) - len(stills) >= 3
    if stills:
        out.append(Finding(
            "soft", Weight.DOUBTFUL, f"{numbers(survey, stills)}: soft or shaken",
            "Where it is used the picture loses detail its neighbours have.", ids(survey, stills),
            Mend.KEEP_ASIDE, "Keep aside", enough))
    if moving:
        out.append(Finding(
            "motion blur", Weight.DOUBTFUL, f"{numbers(survey, moving)}: blurred while the camera moved",
            "Where it is used the picture loses detail its neighbours have.", ids(survey, moving),
            Mend.KEEP_ASIDE, "Keep aside", enough))
    return out


def bumped(survey: Survey) -> list[Finding]:
    """A series on a tripod that was knocked: still before, still after, and a step between."""
    if survey.kind is not Kind.STACK or survey.aligned or len(survey.shifts_px) < 3:
        return []
    shifts = survey.shifts_px
    side = max(survey.frames[0].size)
    if any(s is None for s in shifts):
        return []
    steps = np.abs(np.diff(shifts))
    lasting = [abs(np.median(shifts[n:]) - np.median(shifts[:n])) for n in range(1, len(shifts))]
    big = [n + 1 for n, s in enumerate(steps)
           if s > 3 * side * BUMP or (s > side * BUMP and lasting[n] > 0.7 * side * BUMP)]
    calm = np.sum(steps < side * STILL)
    if not big:
        return []
    if calm < len(steps) - max(2, len(steps) // 3):
        return [Finding(
            "handheld", Weight.WRONG, f"The camera moved between frames, by up to {max(shifts):.0f} px",
            "Without aligning, everything comes out doubled.", ids(survey, range(len(shifts))), Mend.ALIGN,
            "Align the frames", True)]
    n = big[0]
    return [Finding(
        "bumped", Weight.WRONG,
        f"The tripod was bumped before frame {survey.frames[n].number}, by {steps[n - 1]:.0f} px",
        "From there on everything comes out doubled.", ids(survey, range(n, len(shifts))), Mend.ALIGN,
        "Align the frames", True)]


def parallax(survey: Survey) -> list[Finding]:
    found = [p for p in survey.pairs if p.parallax_px > PARALLAX * max(survey.frames[p.a].size)]
    if not found or survey.kind is not Kind.PANORAMA:
        return []
    worst = max(found, key=lambda p: p.parallax_px)
    moved = "moved, as Align measured" if survey.measured else "seems to have moved"
    return [Finding(
        "parallax", Weight.DOUBTFUL, f"The camera {moved} sideways: {worst.parallax_px:.0f} px "
        f"between frames {survey.frames[worst.a].number} and {survey.frames[worst.b].number}",
        "Near things may come out doubled or cut; look along the seams.",
        ids(survey, [p.a for p in found] + [p.b for p in found]))]


def thin_overlap(survey: Survey) -> list[Finding]:
    if survey.kind is not Kind.PANORAMA or survey.coverage is None:
        return []
    out = []
    for a, b, share in survey.coverage.thin:
        first, second = (survey.frames[n].number for n in (a, b))
        out.append(Finding(
            "thin overlap", Weight.DOUBTFUL, f"Frames {first} and {second} overlap by only {100 * share:.0f} %",
            "They may join badly or not at all; a quarter or more is wanted.", ids(survey, (a, b))))
    return out


def missing_cap(survey: Survey) -> list[Finding]:
    """What is open above or below a full ring."""
    if survey.kind is not Kind.PANORAMA or survey.coverage is None:
        return []
    return [Finding(
        "missing cap", Weight.NOTE, f"The {name} is open, about {wide:.0f}° wide",
        "Close it at Join (Mend): paint a fill, clone, or lay a flat view there; or crop the picture.",
        ()) for name, wide in survey.coverage.caps]


def unconnected(survey: Survey) -> list[Finding]:
    if len(survey.frames) < 2:
        return []
    held = set()
    for p in survey.pairs:
        held |= {p.a, p.b}
    fields = {n for some, _ in _fields(survey).values() for n in some}
    # of a bracket the brightest may show nothing: that is what it was exposed for
    blank = {n for n, f in enumerate(survey.frames) if f.burnt.mean() > BLANK} if is_bracket(survey) else set()
    apart = [n for n in range(len(survey.frames)) if n not in held | fields | blank]
    if not apart or len(apart) == len(survey.frames):
        return []
    they, shows = ("It", "shows") if len(apart) == 1 else ("They", "show")
    cost = (f"{they} will be left out of the picture." if survey.aligned or survey.kind is Kind.PANORAMA
            else f"What {they.lower()} {shows} is mixed into the picture.")
    return [Finding(
        "unconnected", Weight.WRONG, f"{numbers(survey, apart)}: nothing in common with the others", cost,
        ids(survey, apart), Mend.KEEP_ASIDE, "Keep aside", True)]


def kept_aside(survey: Survey) -> list[Finding]:
    """Frames that a proposal did not take in."""
    if not survey.aside:
        return []
    shares, belongs = ("it shares", "it belongs") if len(survey.aside) == 1 else ("they share", "they belong")
    return [Finding(
        "kept aside", Weight.NOTE,
        f"{in_words(n for _, n in survey.aside)}: kept aside, a first look found nothing {shares} with the others",
        f"If {belongs} here, take back what was kept aside: Align looks closer.", tuple(i for i, _ in survey.aside))]


def calibration(survey: Survey) -> list[Finding]:
    """Frames among a stack's that show no light, or an even field."""
    shown = {Field.DARK: "nothing but the sensor's own signal, as with the lens covered",
             Field.FLAT: "an even field"}
    helps = {Field.DARK: "the sensor's pattern", Field.FLAT: "the lens's falloff and dust"}
    return [Finding(
        f"{field}s", Weight.WRONG, f"{numbers(survey, places)}: {shown[field]}",
        f"As part of the picture it only spoils it; used as a {field} it takes {helps[field]} off the others.",
        ids(survey, places), Mend.FIELDS, f"Use as {field}s", sure)
        for field, (places, sure) in _fields(survey).items()]


def _fields(survey: Survey) -> dict[Field, tuple[list[int], bool]]:
    """The fields among a stack's frames, if enough of it shows something, and whether it is sure what they are."""
    files = [(n, f.field) for n, f in enumerate(survey.frames) if f.source_kind == "file" and f.field is not None]
    lights = [look for _, look in files if look.field is None]
    if survey.kind is not Kind.STACK or len(lights) < LEAST_LIGHTS:
        return {}
    covered = {n: was_covered(look, lights) for n, look in files}
    darks = [n for n, sure in covered.items() if sure is not False]
    flats = [n for n, look in files if look.field is Field.FLAT]
    found = {Field.DARK: (darks, all(covered[n] for n in darks)), Field.FLAT: (flats, False)}
    return {field: told for field, told in found.items() if told[0]}


def mixed_size(survey: Survey) -> list[Finding]:
    sizes = Counter(f.size for f in survey.frames if f.source_kind != "set")
    if len(sizes) < 2:
        return []
    usual = sizes.most_common(1)[0][0]
    raws = {f.stem for f in survey.frames if f.raw}
    off = [n for n, f in enumerate(survey.frames)
           if f.size != usual and f.source_kind != "set" and (f.raw or f.stem not in raws)
           and max(abs(a - b) for a, b in zip(f.size, usual, strict=True)) > 16]
    if not off:
        return []
    turned = all(survey.frames[n].size == usual[::-1] for n in off)
    stacked = survey.kind is Kind.STACK
    return [Finding(
        "mixed size", Weight.WRONG if stacked else Weight.NOTE,
        f"{numbers(survey, off)}: {'turned the other way' if turned else 'another size'}",
        "Frames of a stack must be alike, or be aligned." if stacked else
        "They join, but check that they belong.", ids(survey, off), Mend.KEEP_ASIDE, "Keep aside")]


def redundant(survey: Survey) -> list[Finding]:
    if survey.kind is not Kind.PANORAMA or survey.coverage is None or is_bracket(survey):
        return []
    copies = {i for f in (*duplicates(survey), *doubles(survey)) for i in f.frames}
    places = {n for n, f in enumerate(survey.frames) if f.id in copies}
    for p in survey.pairs:
        if p.overlap > ALIKE_OVERLAP and {p.a, p.b} & places:
            places |= {p.a, p.b}
    found = [n for n in survey.coverage.redundant if n not in places]
    if not found:
        return []
    kept = len(survey.frames) - len(found)
    return [Finding(
        "adds nothing", Weight.NOTE, f"{numbers(survey, found)}: almost nothing new; {kept} frames would do",
        "Fewer, well-overlapped frames often join better, and faster.", ids(survey, found),
        Mend.KEEP_ASIDE, "Use the smaller set")]


def clipped(survey: Survey) -> list[Finding]:
    shares = [float(f.burnt.mean()) for f in survey.frames]
    if not shares or min(shares) < BURNT_SHARE:
        return []
    return [Finding(
        "clipped highlights", Weight.DOUBTFUL, f"Highlights are burnt out in every frame, {100 * min(shares):.0f} % "
        "of it or more", "No frame holds what is there; a shorter exposure would have.",
        ids(survey, range(len(shares))))]


def unreadable(survey: Survey) -> list[Finding]:
    return [Finding("unreadable", Weight.WRONG, why, "It is left out; the rest goes on.", (i,),
                    Mend.KEEP_ASIDE, "Keep aside", True) for i, why in survey.unreadable]


CHECKS = (
    unreadable, calibration, doubles, unconnected, bumped, mixed_size, missing_lens, fisheye, balance_drift,
    exposure_drift, bracket, mixed_focal, soft, duplicates, parallax, thin_overlap, missing_cap, redundant, clipped,
    kept_aside,
)


def findings(survey: Survey) -> list[Finding]:
    """All that the checks find, the weightiest first."""
    order = list(Weight)
    found = [f for check in CHECKS for f in check(survey)]
    return sorted(found, key=lambda f: order.index(f.weight))
