"""Every action of the window in one table: menus, keys and the command finder read it.

Shortcuts beyond the desktop's standard ones are Windfell's own.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class ActionSpec:
    """`name` is the window's deed; `needs` a "set" in hand, a chosen "frame", or nothing; `stations` the only ones
    where it can be done, if there are any.
    """

    name: str
    words: str
    menu: str
    keys: tuple[str, ...] = ()
    needs: str = ""
    stations: tuple[str, ...] = ()

    def lacking(self, has_set: bool, has_frame: bool, station: str) -> str:
        """Why it cannot be done now, in a few words; empty if it can."""
        if self.needs and not has_set:
            return "needs a set of frames"
        if self.stations and station not in self.stations:
            return f"only at {' and '.join(x.capitalize() for x in self.stations)}"
        return "needs a chosen frame" if self.needs == "frame" and not has_frame else ""


ACTIONS = (
    ActionSpec("new_project", "New project", "Project", ("Ctrl+N",)),
    ActionSpec("open_project", "Open project…", "Project", ("Ctrl+O",)),
    ActionSpec("save", "Save project", "Project", ("Ctrl+S",)),
    ActionSpec("save_as", "Save project as…", "Project", ("Ctrl+Shift+S",)),
    ActionSpec("collect", "Collect the project for moving…", "Project"),
    ActionSpec("point_to_missing", "Point to missing frames…", "Project"),
    ActionSpec("open_demo", "Open the demo", "Project"),
    ActionSpec("add_frames", "Add frames…", "Project", ("Ctrl+I",)),
    ActionSpec("add_folder", "Add a folder…", "Project", ("Ctrl+Shift+I",)),
    ActionSpec("settings", "Settings…", "Project", ("Ctrl+,",)),
    ActionSpec("quit", "Quit", "Project", ("Ctrl+Q",)),
    ActionSpec("undo", "Undo", "Edit", ("Ctrl+Z",)),
    ActionSpec("redo", "Redo", "Edit", ("Ctrl+Shift+Z", "Ctrl+Y")),
    ActionSpec("switch_frame", "Keep the chosen frame aside or take it back", "Edit", ("O",), "frame"),
    ActionSpec("remove_frame", "Remove the chosen frame", "Edit", ("Delete",), "frame"),
    ActionSpec("next_frame", "Next frame", "Edit", ("N",), "set"),
    ActionSpec("previous_frame", "Previous frame", "Edit", ("Shift+N",), "set"),
    ActionSpec("vary_set", "Vary this set", "Edit", (), "set"),
    ActionSpec("nest_set", "Use another set as a frame…", "Edit", (), "set"),
    ActionSpec("lay_behind", "Lay another set behind along the skyline…", "Edit", (), "set"),
    ActionSpec("place_behind", "Turn what lies behind to where it belongs", "Edit", (), "set", ("join",)),
    ActionSpec("place_by_stars", "Place what lies behind by its stars", "Edit", (), "set", ("combine",)),
    ActionSpec("watch_folder", "Watch a folder, or no longer…", "Project"),
    ActionSpec("next_set", "Next set", "Edit", ("Ctrl+Tab",), "set"),
    ActionSpec("fit", "Whole picture or 1:1", "Picture", ("Z",), "set"),
    ActionSpec("zoom_in", "Zoom in", "Picture", ("Ctrl++", "Ctrl+="), "set"),
    ActionSpec("zoom_out", "Zoom out", "Picture", ("Ctrl+-",), "set"),
    ActionSpec("compare_off", "Compare: off", "Picture", ("Shift+B",), "set"),
    ActionSpec("compare_divide", "Compare: divide", "Picture", ("D",), "set"),
    ActionSpec("compare_blink", "Compare: blink", "Picture", ("K",), "set"),
    ActionSpec("compare_ghost", "Compare: ghost", "Picture", ("H",), "set"),
    ActionSpec("compare_difference", "Compare: difference", "Picture", ("Shift+K",), "set"),
    ActionSpec("look_around", "Look around inside the panorama", "Picture", ("Q",), "set",
               ("shape", "join", "finish")),
    ActionSpec("fold_frames", "Fold the frames column", "Picture", ("F4",)),
    ActionSpec("fold_bench", "Fold or unfold the bench", "Picture", ("Shift+F4",)),
    ActionSpec("lighter_surround", "Lighter surround", "Picture", ("Ctrl+Up",)),
    ActionSpec("darker_surround", "Darker surround", "Picture", ("Ctrl+Down",)),
    ActionSpec("full_screen", "Full screen", "Picture", ("F11",)),
    ActionSpec("other_theme", "Limestone or Peat", "Picture", ("F12",)),
    ActionSpec("mend_dust", "Find dust and even it out, or leave it", "Make", (), "set", ("prepare",)),
    ActionSpec("align_again", "Align again", "Make", ("R",), "set"),
    ActionSpec("make_level", "Level the view", "Make", ("L",), "set", ("shape",)),
    ActionSpec("draw_level", "Draw a line that is level", "Make", ("Shift+L",), "set",
               ("shape", "join", "combine", "finish", "export")),
    ActionSpec("draw_upright", "Draw a line that stands upright", "Make", ("Shift+U",), "set",
               ("shape", "join", "combine", "finish", "export")),
    ActionSpec("toggle_turning", "Drag turns the view", "Make", ("T",), "set", ("shape",)),
    ActionSpec("toggle_trim", "Leave or trim the edges", "Make", ("M",), "set", ("shape",)),
    ActionSpec("next_stretch", "Seam walk: next", "Make", (".",), "set", ("join",)),
    ActionSpec("previous_stretch", "Seam walk: previous", "Make", (",",), "set", ("join",)),
    ActionSpec("give_one", "Seam walk: give to the one", "Make", ("G",), "set", ("join",)),
    ActionSpec("give_other", "Seam walk: give to the other", "Make", ("Shift+G",), "set", ("join",)),
    ActionSpec("lay_elsewhere", "Seam walk: lay the seam elsewhere", "Make", ("E",), "set", ("join",)),
    ActionSpec("stretch_fine", "Seam walk: it is fine", "Make", ("J",), "set", ("join",)),
    ActionSpec("bend_stretch", "Seam walk: bend together", "Make", ("V",), "set", ("join",)),
    ActionSpec("take_frame", "Choose the frame under the pointer", "Make", ("F",), "set", ("join",)),
    ActionSpec("give_next", "Give the spot under the pointer to the next", "Make", ("Shift+F",), "set", ("join",)),
    ActionSpec("pin_spot", "Pin the spot under the pointer", "Make", ("Y",), "set", ("combine",)),
    ActionSpec("finish_off", "The whole finish off or on", "Make", ("Shift+A",), "set", ("finish",)),
    ActionSpec("export", "Write picture", "Make", ("Ctrl+E",), "set"),
    ActionSpec("stop", "Stop what is running", "Make", ("Esc",)),
    ActionSpec("help_here", "What is this station for?", "Help", ("F1",)),
    ActionSpec("guide", "Guide", "Help", ("Shift+F1",)),
    ActionSpec("keys", "All keys", "Help", ("Ctrl+F1",)),
    ActionSpec("find_command", "Find a command…", "Help", ("F3",)),
    ActionSpec("about", "About Windfell", "Help"),
)
HOLD_BEFORE = "B"
MENUS = ("Project", "Edit", "Picture", "Make", "Help")
