"""Who may do what, without any service: roles, abilities, tokens."""

from hypothesis import given
from hypothesis import strategies as st

from plumcrate.contract.people import ROLES, Ability, KeyRequest, Role
from plumcrate.people import tokens
from plumcrate.people.who import Who

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
    who = Who("person", 1, "somebody", abilities=held)
    assert who.may(number, ability) == (ability in held.get(number, ()))
    assert who.may_somewhere(ability) == any(ability in one for one in held.values())
    assert who.in_library(number) == held.get(number, frozenset())


@given(held=HELD)
def test_what_may_be_seen_is_where_one_may_look(held: dict[int, frozenset[Ability]]) -> None:
    condition = str(
        Who("key", 1, "k", abilities=held).may_see().compile(compile_kwargs={"literal_binds": True})
    )
    seen = sorted(number for number, abilities in held.items() if Ability.LOOK in abilities)
    told = condition.partition("IN (")[2].rstrip(")")
    assert sorted(int(one) for one in told.split(", ") if one.isdigit()) == seen
    assert str(Who("key", 1, "k", everywhere=frozenset(Ability)).may_see()) == "true"


@given(abilities=st.lists(st.sampled_from(Ability), min_size=1))
def test_who_may_do_anything_may_look(abilities: list[Ability]) -> None:
    asked = KeyRequest(name="k", abilities=abilities)
    assert asked.abilities[0] is Ability.LOOK
    assert set(asked.abilities) == {Ability.LOOK, *abilities}
    assert asked.abilities == [one for one in Ability if one in asked.abilities]


def test_secrets_differ_and_bear_their_checksum() -> None:
    made = {tokens.new_key_secret() for _ in range(200)}
    assert len(made) == 200
    assert all(tokens.looks_like_key(secret) for secret in made)


@given(text=st.text(max_size=80))
def test_other_text_is_no_key(text: str) -> None:
    assert not tokens.looks_like_key(text) or text.startswith("pc_")
    assert not tokens.looks_like_key("plumkey_" + text)


@given(place=st.integers(0, 51), sign=st.sampled_from("0123456789abcXYZ_"))
def test_a_sign_that_was_mistyped_is_noticed(place: int, sign: str) -> None:
    secret = tokens.new_key_secret()
    mistyped = secret[:place] + sign + secret[place + 1 :]
    assert tokens.looks_like_key(mistyped) == (mistyped == secret)
