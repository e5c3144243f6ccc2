"""What stays behind, what goes in."""

from __future__ import annotations

from typing import Annotated

from vornet.core import volumes
from vornet.flows.calc.base import Answer, Calculator, Given, Litres, Number, SomeLitres, answered, asked


class CarryOverIn(Given):
    system_volume_l: Annotated[Litres, asked("System", "L", 40)]
    level_missing_l: Annotated[SomeLitres, asked("Level low by", "L", 3)] = 0.0
    drained_volume_l: Annotated[SomeLitres, asked("Came out", "L", 33)]
    old_value: Annotated[Number, asked("Old oil had", "", 50)]
    new_value: Annotated[Number, asked("New oil has", "", 0)]


class CarryOverOut(Answer):
    residual_share: Annotated[float, answered("stays behind, share")]
    start_value: Annotated[float, answered("next charge starts with")]
    residual_l: Annotated[float, answered("stays behind, L")]


def carry_over(given: CarryOverIn) -> CarryOverOut:
    """Residual share after a drain and the value the next charge starts with."""
    answer = volumes.carry_over(given.system_volume_l, given.drained_volume_l, given.old_value, given.new_value, given.level_missing_l)
    return CarryOverOut(residual_share=answer.residual_share, start_value=answer.start_value, residual_l=answer.residual_l)


class FlushIn(Given):
    system_volume_l: Annotated[Litres, asked("System", "L", 40)]
    drained_volume_l: Annotated[SomeLitres, asked("Each drain takes out", "L", 30)]
    target_share: Annotated[float, asked("Old oil down to", "share", 0.05, gt=0, lt=1)]


class FlushOut(Answer):
    drains: int
    final_share: Annotated[float, answered("old oil's share then")]


def flush(given: FlushIn) -> FlushOut:
    """How many drain-and-fills bring the old oil's share to the target."""
    drains, share = volumes.flush(given.system_volume_l, given.drained_volume_l, given.target_share)
    return FlushOut(drains=drains, final_share=share)


class RefillIn(Given):
    capacity_l: Annotated[Litres, asked("Capacity", "L", 36)]
    residual_l: Annotated[SomeLitres, asked("Stayed behind", "L", 0)] = 0.0
    first_pour_share: Annotated[float, asked("Pour first", "share", 0.9, gt=0, le=1)] = 0.9
    pack_l: Annotated[Litres, asked("Packs of", "L", 5)]


class RefillOut(Answer):
    target_l: Annotated[float, answered("to pour in all, L")]
    first_pour_l: Annotated[float, answered("first pour, L")]
    top_up_l: Annotated[float, answered("then up to, L")]
    whole_packs: Annotated[int, answered("whole packs")]
    from_last_pack_l: Annotated[float, answered("from the next pack, L")]
    left_in_last_pack_l: Annotated[float, answered("stays in that pack, L")]


def refill(given: RefillIn) -> RefillOut:
    """First pour, approach and packs of a refill."""
    answer = volumes.refill(given.capacity_l, given.pack_l, given.residual_l, given.first_pour_share)
    return RefillOut(**answer.__dict__)


CALCULATORS = (
    Calculator(
        "carry-over",
        CarryOverIn,
        CarryOverOut,
        carry_over,
        "What stays behind",
        "f = (system − low − out)/system; start = f·old + (1 − f)·new",
        "mass balance",
    ),
    Calculator("flush", FlushIn, FlushOut, flush, "Change of oil", "old share after n drain-and-fills is fⁿ", "mass balance", 4),
    Calculator(
        "refill",
        RefillIn,
        RefillOut,
        refill,
        "Refill in packs",
        "target = capacity − residual; whole packs and the rest from the next",
        "arithmetic",
    ),
)
