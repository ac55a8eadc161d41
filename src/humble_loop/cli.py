"""The command line: the same core without a window."""

from __future__ import annotations

import argparse
import csv
import gc
import json
import math
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NoReturn

from humble_loop import faults
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.engine.together import processes_at_hand
from humble_loop.formats.bring_in import Options, bring_in
from humble_loop.formats.errors import FormatError
from humble_loop.formats.export import export
from humble_loop.formats.site_file import load_site, save_site, schema
from humble_loop.formats.table_file import write_table
from humble_loop.formats.text_layout import DECIMALS, SEPARATORS
from humble_loop.ground.surface import Problem
from humble_loop.kinds.junction.settling import settling, taken, told
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.site import parts
from humble_loop.site.libraries import new_site
from humble_loop.whole.delivery import delivery
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table, tables
from humble_loop.whole.things import all_things, name_of
from humble_loop.whole.trail import Step, trail_at

_LONGEST_LINE = 800
_to_the_end: list[Engine] = []  # the last site is not taken apart before the program ends: that takes long
COMMANDS = ("new", "report", "probe", "check", "settle", "export", "schema")


class OneLineParser(argparse.ArgumentParser):
    """Complains in one line, as everything here does."""

    def error(self, message: str) -> NoReturn:
        """Complain and stop with exit code 2."""
        complain(f"{message}; see '{self.prog} --help'")
        raise SystemExit(2)


def complain(message: str) -> None:
    """One line on stderr."""
    print(f"humble-loop: {_one_line(message)}", file=sys.stderr)


def _one_line(words: str) -> str:
    """Words of files and file names in one line, not without end, and without what could write into a terminal."""
    line = "".join(c for c in " ".join(words.split()) if c.isprintable() or "\udc80" <= c <= "\udcff")
    return line if len(line) <= _LONGEST_LINE else f"{line[:_LONGEST_LINE]}…"


def _length(text: str) -> float:
    """A length on the command line: more than zero."""
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not 0 < value < math.inf:
        raise argparse.ArgumentTypeError(f"'{text}' is not a length of more than zero metres")
    return value


def build_parser() -> argparse.ArgumentParser:
    """The parser of every command without a window."""
    parser = OneLineParser(prog="humble-loop", description="Streets, turning heads, kerb levels and lots.")
    commands = parser.add_subparsers(dest="command", required=True, parser_class=OneLineParser)
    new = commands.add_parser("new", help="make a site from survey and design files")
    new.add_argument("file", type=Path)
    new.add_argument("--from", dest="inputs", nargs="+", type=Path, required=True, metavar="INPUT")
    new.add_argument("--columns", help="columns of text files in order, e.g. number,easting,northing,level,code")
    new.add_argument("--separator", choices=tuple(SEPARATORS), help="what stands between columns of text files")
    new.add_argument("--decimal", choices=tuple(DECIMALS), help="the decimal sign of text files")
    new.add_argument("--units", choices=("m", "ft", "us-ft"), default="m", help="unit of files that name none")
    new.add_argument("--breaklines", help="code words whose numbered strings are breaklines, e.g. LIP,BANK")
    new.add_argument("--longest-edge", type=_length, help="peel ground triangles with longer edges off the outside (m)")
    report = commands.add_parser("report", help="print a table, in metres")
    report.add_argument("file", type=Path)
    report.add_argument("--table", required=True, help=", ".join(tables()))
    report.add_argument("--of", help="a thing's name")
    report.add_argument("--every", type=_length, help="interval in metres")
    report.add_argument("--format", choices=("csv", "json"), default="csv")
    report.add_argument("--to", type=Path, metavar="FILE", help="write the table as .csv or .xlsx, and print nothing")
    at = commands.add_parser("probe", help="levels at a place")
    at.add_argument("file", type=Path)
    at.add_argument("--at", required=True, help="E,N")
    at.add_argument("--trail", action="store_true", help="and the reasons behind the level")
    at.add_argument("--format", choices=("text", "json"), default="text")
    check = commands.add_parser("check", help="list findings; exit 1 if any rule is broken")
    check.add_argument("file", type=Path)
    settle = commands.add_parser(
        "settle", help="move levels of junctions so that water leaves them, by the least change"
    )
    settle.add_argument("file", type=Path)
    settle.add_argument("--of", help="a junction's name; all of them where none is given")
    settle.add_argument("--to", type=Path, metavar="FILE", help="the site file to write, if not the same")
    export = commands.add_parser("export", help="write LandXML (.xml), DXF (.dxf) or set-out points (.csv)")
    export.add_argument("file", type=Path)
    export.add_argument("--to", type=Path, required=True)
    commands.add_parser("schema", help="print the JSON Schema of site.json")
    return parser


def run(arguments: Sequence[str]) -> int:
    """Run a command; returns the exit code: 0, 1 (findings), 2 (bad input) or 3 (a fault of ours).

    With 2 and 3 there is one line on stderr. That nobody reads the output any more is no fault.
    """
    try:
        options = build_parser().parse_args(_with_negative_places(arguments))
        handlers = {
            "new": _new,
            "report": _report,
            "probe": _probe,
            "check": _check,
            "settle": _settle,
            "export": _export,
            "schema": _schema,
        }
        return handlers[options.command](options)
    except SystemExit as stop:
        return int(stop.code or 0)
    except BrokenPipeError:
        return 0  # as with 'report ... | head'
    except FormatError as error:
        complain(str(error))
    except (NoSuchTable, Unsolved) as error:
        remedy = f"; {error.remedy}" if isinstance(error, Unsolved) and error.remedy else ""
        complain(f"{options.file}: {error}{remedy}")
    except MemoryError:
        complain("there is not enough memory for this file; thin its points out first")
    except OSError as error:
        complain(f"the output cannot be written ({error.strerror or error})")
    except Exception as error:  # noqa: BLE001 - whatever it is, no traceback reaches a user
        faults.log(error)
        complain(f"a fault of ours stopped this ({type(error).__name__}); where it was is told in {faults.log_file()}")
        return 3
    return 2


def _with_negative_places(arguments: Sequence[str]) -> list[str]:
    """'--at -5,3' as '--at=-5,3': a place may be negative, and is no option."""
    out = list(arguments)
    for i in range(len(out) - 1):
        if out[i] == "--at":
            out[i : i + 2] = [f"--at={out[i + 1]}"]
            break
    return out


def _new(options: argparse.Namespace) -> int:
    columns = tuple(c.strip().lower() for c in options.columns.split(",")) if options.columns else None
    codes = tuple(c.strip() for c in options.breaklines.split(",")) if options.breaklines else None
    how = Options(
        columns=columns,
        separator=SEPARATORS.get(options.separator, ""),
        decimal=DECIMALS.get(options.decimal, ""),
        units=options.units,
        breakline_codes=codes,
        longest_edge=options.longest_edge,
    )
    site, brought = bring_in(new_site(options.file.stem), options.inputs, how)
    for problem in brought.problems[:20]:
        print(f"note: {_one_line(_problem(problem))}", file=sys.stderr)
    if len(brought.problems) > 20:
        print(f"note: and {len(brought.problems) - 20} more", file=sys.stderr)
    save_site(site, options.file)
    print(_one_line(f"{options.file}: {brought.words}"))
    return 0


def _problem(problem: Problem) -> str:
    return f"{problem.kind} at {problem.easting:.3f}, {problem.northing:.3f}: {problem.message}"


def _report(options: argparse.Namespace) -> int:
    made = table(Engine(load_site(options.file)), options.table, options.of, options.every)
    if options.to is not None:
        write_table(made, options.table, options.to)
    else:
        print_table(made, options.format)
    return 0


def print_table(made: Table, how: str) -> None:
    """Print a table as CSV or as a JSON list of objects, in full precision and with its unit."""
    made = made.written()
    if how == "json":
        # Row by row: a table may have more rows than one would want in memory twice.
        print("[", end="")
        for k, row in enumerate(made.rows):
            text = as_json(dict(zip(made.columns, row, strict=True))).replace("\n", "\n ")
            print(",\n " if k else "\n ", text, sep="", end="")
        print("\n]" if made.rows else "]")
        return
    writer = csv.writer(sys.stdout, lineterminator="\n")
    writer.writerow(made.columns)
    writer.writerows(["" if v is None else repr(v) if isinstance(v, float) else v for v in row] for row in made.rows)


def as_json(value: object) -> str:
    """JSON for the terminal at hand: what it has no letters for is written as JSON's own numbers."""
    every_letter = (sys.stdout.encoding or "utf-8").lower().replace("-", "").startswith("utf")
    return json.dumps(value, indent=1, ensure_ascii=not every_letter)


def _probe(options: argparse.Namespace) -> int:
    try:
        easting, northing = (float(v) for v in options.at.split(","))
        if not (math.isfinite(easting) and math.isfinite(northing)):
            raise ValueError
    except ValueError:
        complain(f"'{options.at}' is not a place; give easting and northing as E,N")
        return 2
    q = Engine(load_site(options.file))
    e, n = parts.origin(q)
    found = probe(q, easting - e, northing - n)
    trail = trail_at(q, easting - e, northing - n) if options.trail else None
    if options.format == "json":
        out: dict[str, Any] = {
            "easting": easting,
            "northing": northing,
            "ground": _number(found.ground),
            "finished": _number(found.finished),
            "piece": found.title if found.face else None,
            "fall": _number(found.fall),
            "fall_bearing_deg": _number((90.0 - math.degrees(found.fall_heading)) % 360.0),
        }
        if trail is not None:
            out["trail"] = _step(trail)
        print(as_json(out))
        return 0
    print(f"ground    {_text(found.ground)}")
    print(f"finished  {_text(found.finished)}")
    print(f"piece     {found.title if found.face else 'none'}")
    print(f"fall      {100 * found.fall:.2f} %" if math.isfinite(found.fall) else "fall      none")
    if trail is not None:
        print("\n".join(trail.lines()))
    return 0


def _number(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _text(value: float) -> str:
    return f"{value:.4f} m" if math.isfinite(value) else "none"


def _step(step: Step) -> dict[str, Any]:
    """A trail as nested objects. A step met again has its ``number`` only: it stands in full where it was first met."""
    numbers: dict[int, int] = {}

    def tell(step: Step) -> dict[str, Any]:
        if id(step) in numbers and step.terms:
            return {"quantity": step.quantity, "value": step.value, "same_as": numbers[id(step)]}
        numbers[id(step)] = len(numbers) + 1
        head = {"number": numbers[id(step)], "quantity": step.quantity, "value": step.value}
        terms = [
            {
                "words": t.words,
                "amount": t.amount,
                "factor": t.factor if t.step else None,
                "step": tell(t.step) if t.step else None,
            }
            for t in step.terms
        ]
        return {**head, "source": step.source, "rule": step.rule, "terms": terms}

    return tell(step)


def _check(options: argparse.Namespace) -> int:
    q = Engine(load_site(options.file))
    found, (e, n) = findings(q), parts.origin(q)
    for f in found:
        where = f" at {f.place[0] + e:.2f}, {f.place[1] + n:.2f}" if f.place else ""
        print(f"{f.severity}: {f.thing}: {f.rule}: {f.message}{where}. Remedy: {f.remedy}")
    broken = sum(f.severity == "broken" for f in found)
    print(f"{broken} broken, {len(found) - broken} near")
    return 1 if broken else 0


def _settle(options: argparse.Namespace) -> int:
    site = load_site(options.file)
    q = Engine(site)
    junctions = [t for t in all_things(q) if t.kind == "junction"]
    names = {t.id: name_of(q, t) for t in junctions}
    wanted = [i for i, name in names.items() if options.of in (None, name, i)]
    if not wanted:
        known = ", ".join(names.values()) or "none"
        complain(f"{options.file}: there is no junction '{options.of}'; there are {known}")
        return 2
    for id in wanted:
        made = q.attempt(settling, id)
        if isinstance(made, Unsolved):
            print(_one_line(f"{names[id]}: left as it is, {made.message}"))
            continue
        print(_one_line(f"{names[id]}: {told(q, made)}"))
        site = taken(q, made)(site)
        q = Engine(site)
    save_site(site, options.to or options.file)
    return 0


def _export(options: argparse.Namespace) -> int:
    target: Path = options.to
    q = Engine(load_site(options.file), stays=True)
    _to_the_end[:] = [q]
    gc.disable()  # all results stay: looking for what could go takes a twentieth of the time
    try:
        export(delivery(q, processes_at_hand()), target)
    except OSError as error:
        raise FormatError(target, f"it cannot be written ({error.strerror or error}); choose another place") from None
    finally:
        gc.enable()
    print(_one_line(f"{target}: written"))
    return 0


def _schema(options: argparse.Namespace) -> int:
    del options
    print(json.dumps(schema(), indent=1))
    return 0
