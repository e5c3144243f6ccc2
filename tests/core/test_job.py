"""The drain job's rules: order of steps, kit, folding of entries, figures, what stops it, oil use, change of oil."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vornet.core import job
from vornet.core.errors import InputError

ENGINE = {
    "system_volume_l": 40.0, "capacity_l": 36.0, "capacity_without_filter_l": 34.5, "volume_between_marks_l": 3.0, "level_method": "dipstick",
    "filters": [{"part": "F-1", "count": 2, "barred": ["F-0"]}], "seals": [{"place": "plug", "kind": "crush washer", "count": 1}],
    "drain_points": [{"place": "fore", "wrench": "27 mm", "torque_min_nm": 60, "torque_max_nm": 75}, {"place": "aft", "wrench": "22 mm"}],
}  # fmt: skip


def entry(number, key, value, at=None, by="Sunniva", part=1):
    return job.Entry(f"{number:04d}", part, key, value, float(at if at is not None else number), by)


def said(*pairs):
    return job.fold([entry(i, k, v) for i, (k, v) in enumerate(pairs)]).get(1, job.Said())


def order(kind="engine", document=ENGINE, sample=True, **schools):
    return [s.key for s in job.steps(kind, document, schools, sample)]


def test_steps_follow_the_compartments_own_order():
    assert order() == ["safe", "meter", "level", "warm", "sample", "drain", "looks", "filter", "air", "out", "shut", "pour", "prove", "end"]
    assert order(filter_order="before").index("filter") < order(filter_order="before").index("drain")
    during = order(filter_order="during")
    assert during.index("filter") == during.index("drain") + 1
    assert "warm" not in order(drain_temperature="cooled")
    assert order("gearbox")[2] == "fill_open"  # proved before the drain is opened
    assert "sample" not in order(sample=False)
    assert order(document={**ENGINE, "strainers": [{"place": "x"}]}).index("strainer") < order().index("shut") + 1
    for kind in ("engine", "axle", "hydraulics"):
        steps = order(kind)
        assert steps.index("shut") < steps.index("pour")  # whatever the order, shut comes before a litre is poured


def test_kit_counts_packs_and_says_what_is_unknown():
    kit = job.kit(ENGINE, True, 5.0)
    assert (kit.refill.target_l, kit.refill.whole_packs, kit.refill.from_last_pack_l, kit.refill.left_in_last_pack_l) == (36, 7, 1, 4)
    lines = {line.what: line for line in kit.lines}
    assert lines["2 × filter F-1"].detail == "never F-0"
    assert "Socket 22 mm, 27 mm" in lines
    assert "Torque wrench 60–75 N·m" in lines
    bare = job.kit({"drain_points": [{"place": "x"}]}, False, 5.0)
    assert {line.what for line in bare.lines if line.unknown} == {"Oil", "Drain seals", "Drain torque"}


def test_residual_and_carry_over_are_domains_check_value():
    """System 40 L, 3 L low, 33 L out: 4 L and 10 % stay, 36 L go in (mass balance)."""
    got = job.figures(ENGINE, said(("level_before", 0.0), ("out_l", 33.0)))
    assert (got.missing_l, got.residual_l, got.residual_share, got.target_l) == (3.0, 4.0, pytest.approx(0.1), 36.0)
    assert got.first_pour_l == pytest.approx(32.4)
    assert got.assumed == ()


def test_what_is_not_measured_is_said():
    got = job.figures(ENGINE, said())
    assert got.residual_l == 4.0
    assert len(got.assumed) == 2
    kept_filter = job.figures(ENGINE, said(("filter_changed", "no")))
    assert kept_filter.target_l == 34.5
    assert kept_filter.fall_l == 0


def test_refill_is_approached():
    poured = [("level_before", 1.0), ("out_l", 36.0), ("pour", {"litres": 32.4})]
    assert job.figures(ENGINE, said(*poured)).add_l == pytest.approx(3.6)
    assert job.figures(ENGINE, said(*poured)).fall_l == pytest.approx(1.5)  # the filter is empty still
    not_run = job.figures(ENGINE, said(*poured, ("level_read", {"reading": 0.9, "run": False})))
    assert not_run.level is None  # a level read before it ran says nothing
    run = job.figures(ENGINE, said(*poured, ("level_read", {"reading": 0.4, "run": True})))
    assert run.add_l == pytest.approx(1.8)
    full = job.figures(ENGINE, said(*poured, ("pour", {"litres": 1.8}), ("level_read", {"reading": 0.95, "run": True})))
    assert (full.poured_l, full.add_l) == (pytest.approx(34.2), 0.0)


def test_a_pour_taken_back_is_gone():
    entries = [entry(1, "pour", {"litres": 30}), entry(2, "pour", {"litres": 3}), entry(3, "pour", {"taken_back": "0001"})]
    assert job.figures(ENGINE, job.fold(entries)[1]).poured_l == 3


@pytest.mark.parametrize(
    ("pairs", "field"),
    [([("level_before", 0.0), ("out_l", 38.0)], "drained_volume_l"), ([("out_l", 30.0), ("pour", {"litres": 60})], "poured_l")],
)
def test_what_cannot_be_is_refused(pairs, field):
    with pytest.raises(InputError) as refused:
        job.figures(ENGINE, said(*pairs))
    assert refused.value.field == field


@given(st.permutations([entry(1, "out_l", 33.0), entry(2, "out_l", 34.0, by="Tomas"), entry(3, "pour", {"litres": 5}),
                        entry(4, "pour", {"litres": 6}, by="Tomas"), entry(5, "leaks", "none")]))  # fmt: skip
def test_the_order_of_arrival_does_not_matter(entries):
    folded = job.fold(entries)[1]
    assert folded.get("out_l") == 34.0
    assert folded.others == {"out_l": [("Sunniva", 33.0)]}  # the other's figure stays, with the name
    assert sum(p["litres"] for p in folded.lists["pour"]) == 11


def test_nothing_is_finished_that_is_not_shut_poured_and_looked_at():
    visit = job.Said()
    lacking = [k for k, _ in job.wanting(ENGINE, said(("shut", {"fore": True})), visit)]
    assert lacking == ["meter", "shut", "pour", "leaks"]
    visit.now["meter"] = 10.0
    whole = said(("shut", {"fore": True, "aft": True}), ("pour", {"litres": 36}), ("leaks", "none"), ("parts_out", 2.0), ("parts_in", 1.0))
    assert job.wanting(ENGINE, whole, visit) == [("parts_in", "2 parts came out, 1 went back")]


@pytest.mark.parametrize("leaks", ["weeps", "leaks"])
def test_what_leaks_is_not_finished_until_it_is_put_off(leaks):
    visit = job.Said({"meter": 10.0})
    done = [("shut", {"fore": True, "aft": True}), ("pour", {"litres": 36}), ("leaks", leaks)]
    [(key, why)] = job.wanting(ENGINE, said(*done), visit)
    assert key == "leaks" and "put that off" in why
    assert job.wanting(ENGINE, said(*done, ("defer", {"kind": "defect", "what": "plug weeps"})), visit) == []


def test_what_is_seen_calls_for_a_stop():
    assert job.suggests_stop(said(("magnets", {"fore": 2}))) is None
    assert job.suggests_stop(said(("magnets", {"fore": 1, "aft": 4}))) == "chips"
    assert job.suggests_stop(said(("oil_looks", ["milky", "coolant"]))) == "coolant"
    assert job.suggests_stop(said(("filter_looks", ["collapsed"]))) == "filter"
    assert job.worst_magnet(said(("magnets", {"fore": 1, "aft": 3}))) == 3


def test_marker_element_tells_what_is_left_of_the_old_oil():
    share, spread = job.marker_share(before=2400, after=620, new=20, sd=30)
    assert share == pytest.approx(600 / 2380)
    assert 0.01 < spread < 0.03
    assert job.marker_share(before=2400, after=2390, new=2350, sd=30) is None  # too alike to tell


def test_oil_use_stands_out_only_against_enough_history():
    assert job.oil_use([1, 1.1, 0.9], [100, 100, 100])[1] == ""
    assert job.oil_use([1, 1.1, 0.9, 1.0, 1.05], [100] * 5)[1] == ""
    assert job.oil_use([1, 1.1, 0.9, 1.0, 1.7], [100] * 5)[1] == "watch"
    assert job.oil_use([1, 1.1, 0.9, 1.0, 4.0], [100] * 5)[1] == "act"
    assert job.oil_use([2], [500])[0] == [4.0]


# ---- the steps that were missing -------------------------------------------------------------------------------
def test_a_drain_waits_until_the_fill_plug_is_proven_open():
    axle = {"kind": "axle", "drain_points": [{"place": "below"}]}
    visit = job.fold([entry(1, "meter", 10.0, part=None)]).get(None, job.Said())
    done = (("shut", {"below": True}), ("pour", {"litres": 3.0}), ("leaks", "none"))
    assert [k for k, _ in job.wanting(axle, said(*done), visit)] == ["fill_open"]
    assert job.wanting(axle, said(*done, ("fill_open", "yes")), visit) == []
    assert job.wanting({**axle, "kind": "engine"}, said(*done), visit) == []


@pytest.mark.parametrize(
    ("task", "own"),
    [("filter", ["filter", "prove"]), ("magnetic_filter", ["magnetic"]), ("breather", ["breather"]), ("sample", ["warm", "sample"])],
)
def test_a_part_looked_after_while_the_oil_stays_in_takes_only_its_own_steps(task, own):
    assert [s.key for s in job.steps("engine", ENGINE, {}, False, task)] == ["safe", "meter", *own, "end"]


def test_a_barred_filter_is_not_finished_and_an_equivalent_is():
    visit = job.fold([entry(1, "meter", 10.0, part=None)]).get(None, job.Said())
    done = (("shut", {"fore": True, "aft": True}), ("pour", {"litres": 30.0}), ("leaks", "none"))
    assert [k for k, _ in job.wanting(ENGINE, said(*done, ("filter_part", "f-0 ")), visit)] == ["filter_part"]
    assert job.wanting(ENGINE, said(*done, ("filter_part", "F-1b")), visit) == []
    assert job.wanting(ENGINE, said(*done, ("filter_part", "f-0"), ("filter_changed", "no")), visit) == []  # it was left in


def test_of_two_sides_the_lower_one_counts():
    sides = said(("level_before_left", 0.8), ("level_before_right", 0.5))
    assert job.level_before(sides) == 0.5
    read = [("level_read", {"reading": 1.0, "run": True, "side": "left"}), ("level_read", {"reading": 0.4, "run": True, "side": "right"})]
    assert job.level_after(said(*read)) == 0.4
    assert job.level_after(said(*read, ("level_read", {"reading": 0.9, "run": True, "side": "right"}))) == 0.9


def test_each_school_of_pouring_gives_its_first_pour():
    """36 L go in after 33 L came out of 40 L that stood 3 L low: short first, all at once, or what came out with what was low."""
    entries = said(("level_before", 0.0), ("out_l", 33.0))
    first = {school: job.figures(ENGINE, entries, school).first_pour_l for school in ("approach", "all", "returned")}
    assert first == {"approach": pytest.approx(32.4), "all": 36.0, "returned": 36.0}
    nothing_known = {"volume_between_marks_l": 3.0}
    assert job.figures(nothing_known, entries, "returned").target_l == 36.0
    assert job.figures(nothing_known, entries, "approach").target_l is None


def test_a_level_without_a_top_up_tells_the_loss_of_its_stretch():
    """Half a litre low, 120 h and two litres later one and a half: three litres gone, 25 per 1,000 h (a balance)."""
    from vornet.core.volumes import stretch_loss

    assert stretch_loss(0.5, 1.5, 2.0, 120) == (3.0, 25.0)
    assert stretch_loss(0.5, 0.5, 0.0, 100) == (0.0, 0.0)
    assert stretch_loss(0.5, 1.0, 0.0, 0) is None
