"""Commands: words, icon, key, and the stages whose tool row they stand in; and what the find box offers."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING

from humble_loop.desk.finder import Found
from humble_loop.desk.session import Station
from humble_loop.desk.stages import STAGES
from humble_loop.engine.query import Unsolved
from humble_loop.formats.quantities import NotAQuantity, parse_chainage, show_chainage
from humble_loop.kinds.island.show import splitter
from humble_loop.kinds.junction.nodes import Arm, arms_at
from humble_loop.kinds.junction.profiles import level_removal
from humble_loop.kinds.junction.throats import throat_place
from humble_loop.kinds.knuckle.show import level_removal as knuckle_level
from humble_loop.kinds.lot.kind import line_with_lots
from humble_loop.kinds.roundabout.profiles import level_removal as kerb_level
from humble_loop.kinds.roundabout.vips import level_removal as circle_level
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.edits import propose_again
from humble_loop.kinds.street.grades import locking
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import StreetLine, chain_of, drawn_end, name_of
from humble_loop.kinds.street.section_edits import add_change
from humble_loop.kinds.street.show import keep, removal
from humble_loop.kinds.turning_head.model import HeadKind, shape_head
from humble_loop.kinds.turning_head.vips import vip_removal
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import set_settings
from humble_loop.whole import things

if TYPE_CHECKING:
    from humble_loop.desk.window import MainWindow


@dataclass(frozen=True)
class Command:
    """Something that can be done: words, icon, what it does, its key, and the stages whose tool row it stands in."""

    words: str
    icon: str
    do: Callable[[], object]
    key: str = ""
    stages: tuple[str, ...] = ()


def make_commands(w: MainWindow) -> list[Command]:
    """All commands of the window."""
    files, on = w.files, StreetCommands(w)
    plan_stages = ("Ground", "Streets", "Lots", "Sections", "Junctions", "Turning heads")
    return [
        Command("Bring in", "import", files.ask_bring_in, "Ctrl+I", ("Ground", "Streets")),
        Command("Read lines again", "undo", files.ask_read_again, "", ("Ground",)),
        Command("Draw a street", "street", w.draw_street, "D", ("Ground", "Streets", "Levels")),
        Command("Roundabout", "roundabout", w.place_roundabout, "R", ("Junctions",)),
        Command("Street along a line", "ground", on.show_along, "", ("Streets",)),
        Command("End in a bulb", "head", partial(on.add_head, "bulb"), "", ("Streets", "Turning heads")),
        Command("End in a hammerhead", "hammerhead", partial(on.add_head, "hammerhead"), "", ("Turning heads",)),
        Command("Set the proposed grade line", "levels", on.keep_levels, "", ("Levels",)),
        Command("Propose the grade line again", "ground", on.propose_levels, "", ("Levels",)),
        Command("Lock or unlock the VIP", "lock", on.lock_held, "", ("Levels",)),
        Command("Fixed fall", "trail", w.mark_fixed_fall, "L", ("Levels", "Turning heads")),
        Command("Remove the VIP or bend", "bend", on.remove_held, "Del", ("Streets", "Levels")),
        Command("Cut back or run on", "bend", on.show_ends, "", ("Streets",)),
        Command("Split the street here", "street", on.split_here),
        Command("Section piece by piece", "elements", on.show_section, "", ("Sections",)),
        Command("Change the section here", "section", on.change_section, "", ("Sections",)),
        Command("Drains in cut", "kerb", on.show_drains, "", ("Sections",)),
        Command("Junction sheet", "junction", w.open_junction_sheet, "J", ("Junctions",)),
        Command("Roundabout sheet", "roundabout", w.open_roundabout_sheet, "Shift+R", ("Junctions",)),
        Command("Corners", "kerb", on.show_corners, "", ("Junctions",)),
        Command("Island before it", "roundabout", on.add_island, "", ("Junctions",)),
        Command("Section before", "back", w.stepping.previous, "PgUp", ("Sections",)),
        Command("Next section", "forward", w.stepping.next, "PgDown", ("Sections",)),
        Command("Play along the street", "play", w.stepping.play, "P", ("Sections",)),
        Command("Add lots", "lot", on.add_lots, "", ("Lots", "Streets")),
        Command("Flow arrows", "batter", w.toggle_flow, "F", ("Junctions", "Turning heads", "Sections")),
        Command("Elements, levels, sections", "elements", w.toggle_sheets, "Ctrl+2", ("Streets", "Levels")),
        Command("Tables", "table", w.open_tables, "Ctrl+T", ("Hand-over", "Lots", "Findings")),
        Command("Export", "handover", files.ask_export, "Ctrl+E", ("Hand-over",)),
        Command("3D view", "solid", w.toggle_solid, "Ctrl+3", plan_stages),
        Command("See everything", "fit", w.fit, "Home", tuple(stage.title for stage in STAGES)),
        Command("New site", "ground", files.new_site, "Ctrl+N"),
        Command("Open", "open", files.ask_open, "Ctrl+O"),
        Command("Open the demo", "open", files.open_demo),
        Command("Save", "save", files.save, "Ctrl+S"),
        Command("Save as", "save", files.save_as, "Ctrl+Shift+S"),
        Command("Undo", "undo", w.session.undo, "Ctrl+Z"),
        Command("Redo", "redo", w.session.redo, "Ctrl+Shift+Z"),
        Command("Find anything", "search", lambda: w.finder.open(), "Ctrl+K"),
        Command("Other theme", "theme", w.other_theme, "Ctrl+L"),
        Command("Fold the index away or back", "table", lambda: w.index.setVisible(not w.index.isVisible()), "Ctrl+B"),
        Command("Quit", "out", w.close, "Ctrl+Q"),
    ]


_REMOVES = {
    "vip": "Remove the VIP",
    "head vip": "Remove the VIP",
    "return level": "Remove the level",
    "knuckle level": "Remove the level",
    "circle level": "Remove the level",
    "leg level": "Remove the level",
}


class StreetCommands:
    """Commands on the chosen street."""

    def __init__(self, window: MainWindow) -> None:
        self._w = window

    def _street(self) -> str:
        street = self._w.session.street
        if not street:
            self._w.say("Choose a street first: click it in the plan or the index")
        return street

    def show_along(self) -> None:
        """Show the street that can be made along the chosen survey line."""
        thing = self._w.session.thing
        if thing is None or thing.kind != "survey_line":
            self._w.say("Choose a survey line first: click it in the plan or the index")
        else:
            self._w.show_sheet("Street along it")

    def add_head(self, kind: HeadKind) -> None:
        """End the chosen street in a bulb or a hammerhead."""
        if street := self._street():
            drawn = drawn_end(self._w.session.engine, street, "end")
            self._w.session.do(f"End in a {kind}", lambda s: shape_head(s, street, drawn, kind))

    def add_island(self) -> None:
        """Put an island before the chosen junction, or that of the chosen street which is nearest to the cursor, on its side street."""
        session, q, thing = self._w.session, self._w.session.engine, self._w.junction_in_hand()
        if thing is None or not (arms := arms_at(q, thing.id)):
            return
        place = session.cursor

        def away(arm: tuple[str, Arm]) -> float:
            made = q.attempt(throat_place, *arm)
            if place is None or isinstance(made, Unsolved):
                return 0.0
            return math.hypot(*(float(a - b) for a, b in zip(made.point, place)))

        street, arm = min(arms, key=away)
        edit = splitter(q, street, arm)
        if edit is None:
            self._w.say(f"{name_of(q, street)} is too short for an island before it, or an existing street")
            return
        session.do_and_choose("Island before a junction", edit)

    def keep_levels(self) -> None:
        """Set the proposed grade line as it stands."""
        if street := self._street():
            q = self._w.session.engine
            try:
                if "proposed" not in grade_line(q, street).states:
                    return
                edit = keep(q, street)
            except Unsolved as unsolved:
                self._w.say(str(unsolved))
                return
            self._w.session.do("Set the grade line", edit)

    def propose_levels(self) -> None:
        """Give the grade line back to the proposal."""
        if street := self._street():
            self._w.session.do("Propose the grade line", lambda s: propose_again(s, street))

    def remove_held(self) -> None:
        """Take the VIP or bend that is in hand out."""
        session = self._w.session
        held = session.chosen.held
        q = session.engine
        edit = (
            removal(q, held)
            or level_removal(q, held)
            or vip_removal(q, held)
            or knuckle_level(q, held)
            or circle_level(q, held)
            or kerb_level(q, held)
        )
        if edit is None:
            self._w.say("Take a VIP in the long section or a bend in the plan first: click it")
        elif session.do(_REMOVES.get(held[0], "Remove the bend"), edit):
            session.choose(session.chosen.thing)

    def lock_held(self) -> None:
        """Lock the VIP that is in hand where it is, or unlock it."""
        session = self._w.session
        held = session.chosen.held
        offered = locking(session.engine, held[1], held[2]) if held[:1] == ("vip",) else ()
        if not offered:
            self._w.say("Take a VIP in the long section first: click it; a tied one follows what it is tied to")
        for words, edit in offered:
            session.do(words, edit)

    def show_corners(self) -> None:
        """Show the corners of the chosen junction in rows beside the plan."""
        thing = self._w.junction_in_hand()
        if thing is not None:
            self._w.session.choose(thing)
            self._w.show_sheet("Corners")

    def show_drains(self) -> None:
        """Show the drains at the toe of the chosen street's cuts in rows beside the plan."""
        if street := self._street():
            self._w.session.choose(ThingId("street", street))
            self._w.show_sheet("Drains")

    def show_ends(self) -> None:
        """Show what the ends of the chosen street can be taken to in rows beside the plan."""
        if self._street():
            self._w.show_sheet("Ends")

    def split_here(self) -> None:
        """Make two streets of the chosen one at the section cursor."""
        if street := self._street():
            session = self._w.session
            station = session.station
            if station is None or getattr(station.line, "street", "") != street:
                self._w.say("Point at the place first, in the plan or in a section: the street is split at the cursor")
                return
            session.do("Split the street", split(session.engine, street, float(station.chainage)))

    def show_section(self) -> None:
        """Show the pieces of the chosen street's section in rows beside the plan."""
        if self._street():
            self._w.show_sheet("Section")

    def change_section(self) -> None:
        """Let the chosen street's section become another from the section cursor on, and show where it changes."""
        if street := self._street():
            session = self._w.session
            station = session.station
            here = station is not None and getattr(station.line, "street", "") == street
            total = chain_of(session.engine, street).total
            at = float(round(station.chainage if here and station else 0.5 * total))
            if session.do("Change the section", lambda s: add_change(s, street, at)):
                self._w.show_sheet("Changes")

    def add_lots(self) -> None:
        """Put lots along the chosen street."""
        if street := self._street():
            self._w.session.do("Add lots", line_with_lots(self._w.session.engine, street))


def offers(w: MainWindow, commands: list[Command], text: str) -> list[Found]:
    """What the find box can find: commands with key and stage, every thing, stages, settings, and a chainage typed."""
    return [replace(found, do=partial(w.run, found.do)) for found in _offers(w, commands, text)]


def _offers(w: MainWindow, commands: list[Command], text: str) -> list[Found]:
    q = w.session.engine
    found = []
    for c in commands:
        where = ", ".join(c.stages) if len(c.stages) < len(STAGES) else "every stage"
        found.append(
            Found(c.words, "command" + (f", {c.key}" if c.key else "") + (f", in {where}" if where else ""), c.do)
        )
    for thing in things.all_things(q):
        kind = kind_of(thing.kind)
        found.append(Found(things.name_of(q, thing), kind.title.lower(), partial(w.choose_and_show, thing)))
    for stage, made in enumerate(STAGES):
        found.append(Found(f"Stage: {made.title}", "stage", partial(w.stage_row.choose, stage)))
    for unit, words in (("m", "metres"), ("ft", "feet"), ("us-ft", "US survey feet")):
        change = partial(set_settings, units=unit)
        found.append(Found(f"Units: {words}", "setting", partial(w.session.do, "Change units", change)))
    street = w.session.street
    if text[:1].isdigit() and street:
        try:
            s = parse_chainage(text, w.session.site.settings.units)
        except NotAQuantity:
            return found
        words = f"{name_of(q, street)} at {show_chainage(s)}"
        found.insert(0, Found(words, "chainage", lambda: go_to(w, street, s)))
    return found


def go_to(w: MainWindow, street: str, chainage: float) -> None:
    """Look at a chainage of a street."""
    e, n = chain_of(w.session.engine, street).points_at([chainage])[0]
    w.plan.look_at(float(e), float(n), 60.0)
    w.session.choose(ThingId("street", street))
    w.session.point_at(float(e), float(n), Station(StreetLine(street), chainage))
