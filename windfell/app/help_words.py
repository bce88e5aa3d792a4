"""What each station is for, in a few sentences, with the way on; the keys of all actions on one page."""

from __future__ import annotations

from collections.abc import Sequence

from windfell.app.actions import ActionSpec

HERE = {
    "gather": (
        "Gather",
        "Here frames become sets. Drop files, a folder or a whole card on the window: each lane is "
        "one picture to be, proposed from times and from what the frames show. Drag frames between "
        "lanes, keep some aside with the mark below them, change panorama to stack.",
        "Press the picture at a lane's end to see what it gives; key 2 goes on to Prepare."),
    "prepare": (
        "Prepare",
        "Here frames are made alike before they are brought together. Readiness names what would "
        "spoil the picture and mends it with a press; white balance, tone, detail and lens are set on "
        "two frames side by side. Match brings all frames to the one in hand.",
        "Key 3 goes on to Align, which has already run."),
    "align": (
        "Align",
        "Here you see where every frame lies and how well it holds. Colour and line of a link tell "
        "its error; a frame that found no place says why and what would help. Two frames can be laid "
        "side by side to set points, draw lines, or paint over what moves.",
        "If the map looks right, key 4 goes on."),
    "shape": (
        "Shape",
        "Here the picture gets its form: projection, direction, outline. The proofs show every "
        "projection with what it costs; a ragged outline is trimmed, or pulled until it fills its "
        "frame. Lines that are drawn level, upright or straight are obeyed.",
        "Key 5 goes on to Join."),
    "join": (
        "Join",
        "Here frames become one picture. The seam walk shows the spot that an eye would notice most; "
        "give it to the one or the other frame, bend both together, or mark it as fine. What a frame "
        "must own, or never, is painted; the ground of a sphere is mended in a flat view.",
        "Full stop goes to the next spot; key 6 goes on to Finish."),
    "combine": (
        "Combine",
        "Here a series becomes one picture by a rule: what vanishes, what gathers, what stays. The "
        "proofs show every rule at once; the pile lays single frames over it, each in its own area. "
        "The core plots the spot under the pointer through all frames.",
        "Key 5 goes on to what moves, key 6 to Finish."),
    "subjects": (
        "Subjects",
        "Here everything that moved lies on the shelf: press a small picture to take or leave it, "
        "with its shadow or reflection, its light matched. What shares a place is named and solved by order or "
        "by a cut. Best of shows one person as all frames have it; Moving picture plays the series.",
        "Key 6 goes on to Finish."),
    "finish": (
        "Finish",
        "Here the picture is developed, all of it or parts, and everything can be changed next week. "
        "Add an adjustment, give it an area, drag its rulers; the histogram shows what is clipped. "
        "Repairs heal, clone, fill, or show what another frame has behind it.",
        "Shift+A takes the whole list off and on; key 7 goes on to Export."),
    "export": (
        "Export",
        "Here the picture is written. What is worth a look before the wait stands beside what will be "
        "written, how large and how long. Several outputs are written at once, many sets by the "
        "queue, and what was decided is kept as a recipe for the next card.",
        "Ctrl+E writes; nothing half-written ever stands under the final name."),
}
OTHERWISE = (
    "Windfell",
    "Many frames become one picture here: a panorama of frames that overlap, or a stack of frames of "
    "one view. Nothing is ever written to your frames, and everything can be undone.",
    "Drop frames on the window, or open the demo.")


def here_page(station: str, has_set: bool) -> str:
    """What the station in hand is for, as Markdown."""
    title, what, way_on = HERE[station] if has_set and station in HERE else OTHERWISE
    return f"# {title}\n\n{what}\n\n**Then.** {way_on}\n"


def keys_page(actions: Sequence[ActionSpec], stations: Sequence[str]) -> str:
    """All keys, by menu, as Markdown; those of stations say where they count."""
    lines = ["# Keys", "", "Keys 1 to 9 go to the stations; hold B to see the picture before."]
    for menu in dict.fromkeys(a.menu for a in actions):
        rows = [a for a in actions if a.menu == menu and a.keys]
        if not rows:
            continue
        placed = any(a.stations for a in rows)
        lines += ["", f"## {menu}", "", "| Key | What it does |" + (" Where |" if placed else ""),
                  "|---|---|" + ("---|" if placed else "")]
        for a in rows:
            keys = " or ".join(k.replace("|", "\\|") for k in a.keys)
            where = ", ".join(s.capitalize() for s in stations if s in a.stations)
            lines.append(f"| **{keys}** | {a.words.rstrip('…')} |" + (f" {where} |" if placed else ""))
    return "\n".join([*lines, ""])
