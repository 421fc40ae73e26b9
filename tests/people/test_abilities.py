"""Who may do what, without any service: roles, abilities, tokens."""

import hashlib
import re

from hypothesis import given
from hypothesis import strategies as st

from plumcrate.contract.people import ROLES, Ability, KeyRequest, Role
from plumcrate.people import tokens
from plumcrate.people.actor import Actor

NUMBERS = st.integers(1, 50)
HELD = st.dictionaries(NUMBERS, st.frozensets(st.sampled_from(Ability)), max_size=5)


def test_each_role_may_do_what_the_one_below_may() -> None:
    below: frozenset[Ability] = frozenset()
    for role in Role:
        assert below < ROLES[role]
        below = ROLES[role]
    assert below == frozenset(Ability)


@given(held=HELD, number=NUMBERS, ability=st.sampled_from(Ability))
def test_what_is_held_in_one_library_is_held_nowhere_else(
    held: dict[int, frozenset[Ability]], number: int, ability: Ability
) -> None:
    actor = Actor("person", 1, "somebody", abilities=held)
    assert actor.may(number, ability) == (ability in held.get(number, ()))
    assert actor.may_somewhere(ability) == any(ability in one for one in held.values())
    assert actor.in_library(number) == held.get(number, frozenset())


@given(held=HELD)
def test_what_may_be_seen_is_where_one_may_look(held: dict[int, frozenset[Ability]]) -> None:
    condition = str(
        Actor("key", 1, "k", abilities=held).may_see().compile(compile_kwargs={"literal_binds": True})
    )
    seen = sorted(number for number, abilities in held.items() if Ability.LOOK in abilities)
    told = condition.partition("IN (")[2].rstrip(")")
    assert sorted(int(one) for one in told.split(", ") if one.isdigit()) == seen
    assert str(Actor("key", 1, "k", everywhere=frozenset(Ability)).may_see()) == "true"


@given(abilities=st.lists(st.sampled_from(Ability), min_size=1))
def test_who_may_do_anything_may_look(abilities: list[Ability]) -> None:
    asked = KeyRequest(name="k", abilities=abilities)
    assert asked.abilities[0] is Ability.LOOK
    assert set(asked.abilities) == {Ability.LOOK, *abilities}
    assert asked.abilities == [one for one in Ability if one in asked.abilities]


def check_of(begin: str) -> str:
    """The last group of a key, as the documentation has it: 25 bits of a hash, in base 32."""
    value = int(hashlib.sha256(begin.encode()).hexdigest()[:8], 16) // 2**7
    return "".join("0123456789abcdefghjkmnpqrstvwxyz"[value // 32**power % 32] for power in (4, 3, 2, 1, 0))


def test_keys_differ_and_end_with_their_checksum() -> None:
    made = {tokens.new_key_secret() for _ in range(200)}
    assert len(made) == 200
    for secret in made:
        assert re.fullmatch(r"plumkey(-[0-9a-hjkmnp-tv-z]{5}){10}", secret)
        begin, _, checksum = secret.rpartition("-")
        assert checksum == check_of(begin)
