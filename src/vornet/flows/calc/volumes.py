"""What stays behind, what goes in."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from vornet.core import volumes
from vornet.flows.calc.base import Calculator, Given, Litres, Number, SomeLitres


class CarryOverIn(Given):
    system_volume_l: Litres
    level_missing_l: SomeLitres = 0.0
    drained_volume_l: SomeLitres
    old_value: Number
    new_value: Number


class CarryOverOut(BaseModel):
    residual_share: float
    start_value: float
    residual_l: float


def carry_over(given: CarryOverIn) -> CarryOverOut:
    """Residual share after a drain and the value the next charge starts with."""
    answer = volumes.carry_over(given.system_volume_l, given.drained_volume_l, given.old_value, given.new_value, given.level_missing_l)
    return CarryOverOut(residual_share=answer.residual_share, start_value=answer.start_value, residual_l=answer.residual_l)


class FlushIn(Given):
    system_volume_l: Litres
    drained_volume_l: SomeLitres
    target_share: Annotated[float, Field(gt=0, lt=1)]


class FlushOut(BaseModel):
    drains: int
    final_share: float


def flush(given: FlushIn) -> FlushOut:
    """How many drain-and-fills bring the old oil's share to the target."""
    drains, share = volumes.flush(given.system_volume_l, given.drained_volume_l, given.target_share)
    return FlushOut(drains=drains, final_share=share)


class RefillIn(Given):
    capacity_l: Litres
    residual_l: SomeLitres = 0.0
    first_pour_share: Annotated[float, Field(gt=0, le=1)] = 0.9
    pack_l: Litres


class RefillOut(BaseModel):
    target_l: float
    first_pour_l: float
    top_up_l: float
    whole_packs: int
    from_last_pack_l: float
    left_in_last_pack_l: float


def refill(given: RefillIn) -> RefillOut:
    """First pour, approach and packs of a refill."""
    answer = volumes.refill(given.capacity_l, given.pack_l, given.residual_l, given.first_pour_share)
    return RefillOut(**answer.__dict__)


CALCULATORS = (
    Calculator("carry-over", CarryOverIn, CarryOverOut, carry_over),
    Calculator("flush", FlushIn, FlushOut, flush),
    Calculator("refill", RefillIn, RefillOut, refill),
)
