"""A vehicle rolled along a line: wheels that rest on it, a rigid body, and what is left under it, held to plain geometry and to a roll by brute force."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.rolling import Course, Underside, clearances, poses, rolled, rolled_each, wheel_levels
from tests.conftest import examples


def flat_belly(wheelbase=2.8, clearance=0.15, front=0.9, rear=1.1, wheel=0.32):
    """A body that is level underneath all the way."""
    points = np.array([[-rear, clearance], [wheelbase + front, clearance]])
    return Underside(wheelbase, wheel, points)


def test_on_a_slope_a_wheel_lies_square_above_it_and_on_a_corner_round_it():
    up = Course(np.array([0.0, 10.0]), np.array([1.0, 3.0]))
    assert wheel_levels(up, 0.3, np.array([5.0])) == pytest.approx([2.0 + 0.3 * np.sqrt(1.04)], abs=1e-12)
    crest = Course(np.array([0.0, 5.0, 10.0]), np.array([0.0, 0.5, 0.0]))
    assert wheel_levels(crest, 0.3, np.array([5.0])) == pytest.approx([0.8], abs=1e-12)
    # In a sag it touches both straights at once: its middle lies above the corner by r sqrt(1 + m2).
    sag = Course(np.array([0.0, 5.0, 10.0]), np.array([0.5, 0.0, 0.5]))
    assert wheel_levels(sag, 0.3, np.array([5.0])) == pytest.approx([0.3 * np.sqrt(1.01)], abs=1e-12)


@examples(40)
@given(st.floats(0.02, 0.25), st.floats(2.2, 4.0), st.floats(0.08, 0.3))
def test_over_a_crest_there_is_about_a_quarter_of_change_times_wheelbase_less(change, wheelbase, clearance):
    """Halfway over a crest the belly lies change × wheelbase / 4 nearer to its corner; wheels of no size stand exactly so."""
    m = 0.5 * change
    crest = Course(np.array([-20.0, 0.0, 20.0]), np.array([-20.0 * m, 0.0, -20.0 * m]))
    under = flat_belly(wheelbase, clearance, wheel=1e-6)
    least = rolled(crest, under, -10.0, 8.0)
    half = 0.5 * wheelbase  # along the body; both axles stand sqrt(half2 / (1 + ...)) away, so the chord is half long
    assert least.clearance == pytest.approx(clearance - m * half, abs=5e-5)
    assert least.clearance == pytest.approx(clearance - 0.25 * change * wheelbase, abs=1e-3)
    assert least.s == 0.0
    assert least.ahead == pytest.approx(
        half, abs=5e-3 + 1e-3 / change
    )  # the flatter the crest, the less it matters where


def test_on_the_level_and_on_one_slope_it_keeps_what_it_has():
    under = flat_belly()
    level = Course(np.array([0.0, 50.0]), np.array([7.0, 7.0]))
    assert rolled(level, under, 5.0, 40.0).clearance == pytest.approx(0.15, abs=1e-12)
    # On a slope its belly lies 0.15 square above it, and more upright.
    up = Course(np.array([0.0, 50.0]), np.array([0.0, 10.0]))
    assert rolled(up, under, 5.0, 40.0).clearance == pytest.approx(0.15 * np.sqrt(1.04), abs=1e-12)


def test_a_nose_touches_where_a_sag_is_sharp_and_then_the_tail_does():
    """Level, then up at 25 %: with its front axle at the corner its nose, 0.9 m ahead, is 0.15 up where the slope has risen by 0.225. With
    the rear axle there it stands on the slope, and its tail, 1.1 m behind and 0.15 square above that, hangs over the level.
    """
    under = flat_belly(wheel=1e-6)
    sag = Course(np.array([-30.0, 0.0, 30.0]), np.array([0.0, 0.0, 7.5]))
    nose, tail = rolled(sag, under, -10.0, -2.0), rolled(sag, under, -2.0, 5.0)
    assert nose.clearance == pytest.approx(0.15 - 0.225, abs=5e-5)
    assert (nose.rear, nose.ahead) == (pytest.approx(-2.8, abs=1e-3), pytest.approx(3.7, abs=1e-9))
    assert tail.clearance == pytest.approx((0.15 - 1.1 * 0.25) / np.sqrt(1.0625), abs=5e-5)
    assert (tail.rear, tail.ahead) == (pytest.approx(0.0, abs=1e-3), pytest.approx(-1.1, abs=1e-9))
    assert rolled(sag, under.turned(), -10.0, -2.0).clearance == pytest.approx(0.15 - 0.275, abs=5e-5)


def brute(course, under, begin, finish):
    """The same by looking everywhere: every millimetre of the course, every millimetre of the way, the front axle by bisection."""
    x = np.arange(course.s[0], course.s[-1], 0.001)
    z = np.interp(x, course.s, course.z)

    def wheel(at):
        near = np.abs(x - at) <= under.wheel
        return float((z[near] + np.sqrt(under.wheel**2 - (x[near] - at) ** 2)).max())

    belly = np.concatenate([np.linspace(a, b, 200) for a, b in zip(under.points, under.points[1:])])
    least = np.inf
    for rear in np.arange(begin, finish, 0.004):
        low, (a, b) = wheel(rear), (rear + 0.5 * under.wheelbase, rear + under.wheelbase)
        for _ in range(40):
            front = 0.5 * (a + b)
            far = np.hypot(front - rear, wheel(front) - low) > under.wheelbase
            a, b = (a, front) if far else (front, b)
        along = np.array([front - rear, wheel(front) - low])
        along /= np.hypot(*along)
        places = [rear, low] + belly[:, :1] * along + (belly[:, 1:] - under.wheel) * [-along[1], along[0]]
        least = min(least, float((places[:, 1] - np.interp(places[:, 0], course.s, course.z)).min()))
    return least


COURSE = Course(
    np.array([-9.0, 0.0, 0.45, 0.6, 4.6, 5.2, 9.0, 12.0, 22.0]),
    np.array([0.27, 0.0, 0.03, 0.09, 0.21, 0.25, 0.9, 1.15, 1.2]),
)
LOW = Underside(
    2.75, 0.31, np.array([[-1.15, 0.24], [-0.35, 0.15], [0.4, 0.13], [2.4, 0.12], [3.05, 0.14], [3.65, 0.19]])
)


@pytest.mark.parametrize("under", [LOW, LOW.turned()])
def test_it_agrees_with_a_roll_by_brute_force(under):
    made = rolled(COURSE, under, -5.0, 15.0)
    assert made.clearance == pytest.approx(brute(COURSE, under, made.rear - 0.3, made.rear + 0.3), abs=1e-4)
    coarse = brute(COURSE, under, -5.0, 15.0)
    assert made.clearance <= coarse + 1e-4


@examples(25)
@given(st.lists(st.tuples(st.floats(0.3, 4.0), st.floats(-0.25, 0.25)), min_size=2, max_size=8), st.floats(0.0, 1.0))
def test_wheels_never_sink_in_the_body_stays_rigid_and_nothing_is_lower_in_between(pieces, share):
    run, slope = np.array(pieces).T
    s = np.concatenate([[-20.0, 0.0], np.cumsum(run), [run.sum() + 20.0]])
    z = np.concatenate([[0.0, 0.0], np.cumsum(run * slope), [float((run * slope).sum())]])
    course, rear = Course(s, z), np.linspace(-8.0, run.sum() + 4.0, 300)
    made = poses(course, LOW, rear)
    assert np.hypot(*(made.front - made.rear).T) == pytest.approx(np.full(300, LOW.wheelbase), abs=1e-9)
    for middles in (made.rear, made.front):
        x = middles[:, 0][:, None] + LOW.wheel * np.linspace(-0.999, 0.999, 60)
        under = middles[:, 1][:, None] - np.sqrt(LOW.wheel**2 - (x - middles[:, 0][:, None]) ** 2)
        assert (under - course.level(x)).min() > -1e-9
    least = rolled(course, LOW, -8.0, run.sum() + 4.0)
    anywhere = -8.0 + share * (run.sum() + 12.0)
    assert clearances(course, LOW, np.array([anywhere]))[0][0] >= least.clearance - 1e-4


def test_several_at_once_on_courses_of_their_own_keep_off_as_each_alone():
    """Courses of other lengths, one of them going on uphill where it ends, and vehicles that roll beyond the ends of all."""
    ramp = Course(np.array([-8.0, 0.0, 4.0]), np.array([0.2, 0.0, 0.7]))
    long = Course(np.array([-8.0, 0.0, 0.3, 0.5, 3.0, 5.0, 12.0]), np.array([0.2, 0.0, -0.03, 0.06, 0.1, 0.4, 0.4]))
    courses, unders = [ramp, long, long, ramp], [LOW, LOW.turned(), LOW, LOW.turned()]
    begins, finishes = [-6.0, -5.0, -6.0, -7.0], [9.0, 14.0, 15.0, 8.0]
    alone = [rolled(*of) for of in zip(courses, unders, begins, finishes)]
    for one, by_itself in zip(rolled_each(courses, unders, begins, finishes), alone):
        assert one.clearance == pytest.approx(by_itself.clearance, abs=1e-9)
    pairs = rolled_each(courses, unders, begins, finishes, 2)
    for k in (0, 2):
        least = min(p.clearance for p in alone[k : k + 2])
        assert min(p.clearance for p in pairs[k : k + 2]) == pytest.approx(least, abs=1e-9)
        assert all(p.clearance >= least - 1e-9 for p in pairs[k : k + 2])
