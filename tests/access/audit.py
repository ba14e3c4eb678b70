#!/usr/bin/python3
"""What the accessibility bus of the desktop sees of the window, stage by stage.

Run by ./dev access, with a screen, a session bus and the window on the demo. Goes through the six
stages by pressing their tabs over the bus, as a screen reader would, and looks at everything that
shows: whatever takes the keys has a name and a role, pictures have a table of their marks, painted
lists have parts with words. Prints what it saw; exit 1 with a list of what is wrong; 3 where no window comes to the bus at all, which
is the machine's doing (tests/app/access_window_test.cpp asks the same questions without a bus).
"""
import sys
import time

import pyatspi

PATIENCE = 90.0  # Seconds for the window to come, and for a stage to be there.
MOST = 400  # Children of one thing that are looked at.
DUMB = {"filler", "unknown", "panel", "invalid"}


def wait_for(what, look, otherwise=1):
    until = time.time() + PATIENCE
    while time.time() < until:
        found = look()
        if found:
            return found
        time.sleep(0.2)
    print(f"audit: {what} did not come within {PATIENCE:.0f} s", file=sys.stderr)
    sys.exit(otherwise)


def window():
    for one in pyatspi.Registry.getDesktop(0):
        if one is not None and one.name == "Rapporto" and one.childCount > 0:
            return one
    return None


def below(thing, path=()):
    """Everything under it, with the roles and names on the way."""
    for i in range(min(thing.childCount, MOST)):
        child = thing.getChildAtIndex(i)
        if child is None:
            continue
        yield child, path
        if child.getRoleName() != "table":
            yield from below(child, path + (f"{child.getRoleName()} ‘{child.name[:24]}’",))


def has(thing, state):
    return thing.getState().contains(state)


def tabs_of(app):
    for thing, _ in below(app):
        if thing.getRoleName() == "page tab list" and thing.childCount == 6:
            return thing
    return None


def press(thing):
    actions = thing.queryAction()
    for i in range(actions.nActions):
        if actions.getName(i) == "Press":
            return actions.doAction(i)
    return False


def faults_of(thing):
    role, name = thing.getRoleName(), (thing.name or "").strip()
    focusable = has(thing, pyatspi.STATE_FOCUSABLE)
    if focusable and not name:
        yield "takes the keys and has no name"
    if focusable and role in DUMB:
        yield "takes the keys and says not what it is"
    if role == "push button" and name and thing.queryAction().nActions == 0:
        yield "is a button that cannot be pressed"
    if role == "chart":
        marks = thing.getChildAtIndex(0)
        if marks is None or marks.getRoleName() != "table":
            yield "is a picture without a table of its marks"


def main():
    app = wait_for("the window", window, otherwise=3)
    tabs = wait_for("the route", lambda: tabs_of(app))
    wrong, marks = [], 0
    for i in range(6):
        tab = tabs.getChildAtIndex(i)
        stage = tab.name.split(",")[0]
        if not press(tab):
            wrong.append(f"{stage}: its tab cannot be pressed")
            continue
        wait_for(stage, lambda: has(tab, pyatspi.STATE_SELECTED))
        time.sleep(2.0)  # Checks and pictures arrive behind the stage.
        seen = named = 0
        for thing, path in below(app):
            if not has(thing, pyatspi.STATE_SHOWING):
                continue
            seen += 1
            named += bool((thing.name or "").strip())
            if thing.getRoleName() == "chart" and thing.childCount > 0:
                marks += thing.getChildAtIndex(0).queryTable().nRows
            for fault in faults_of(thing):
                wrong.append(f"{stage}: {thing.getRoleName()} ‘{thing.name}’ {fault}, in " + " / ".join(path[-3:]))
        print(f"{stage}: {seen} things, {named} with a name", flush=True)
    print(f"{marks} marks of pictures can be read", flush=True)
    if marks == 0:
        wrong.append("no picture tells its marks")
    for one in wrong:
        print("WRONG", one)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
