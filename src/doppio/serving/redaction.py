"""What is taken out of questions before their words are kept."""

from collections.abc import Sequence

import regex

from doppio.core.errors import DoppioError

# Long enough for any rule on a question of 2,000 characters, too short for one that runs away.
SECONDS = 0.05
LONGEST, MOST = 300, 30
TAKEN_OUT = "[taken out]"
MAIL, NUMBER, ADDRESS = "mail addresses", "long numbers", "web addresses"
# Rules with a name of their own.
NAMED = {
    MAIL: r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+",
    NUMBER: r"\+?\d(?:[ /().-]?\d){6,}",
    ADDRESS: r"https?://\S+",
}


def check_rules(rules: Sequence[str]) -> list[str]:
    """The rules, stripped and without empty ones.

    Raises
    ------
    DoppioError
        Names the line that cannot be read, or what there is too much of.
    """
    found = [rule.strip() for rule in rules if rule.strip()]
    if len(found) > MOST:
        raise DoppioError(f"redact: {len(found)} rules; at most {MOST}")
    for place, rule in enumerate(found, 1):
        if len(rule) > LONGEST:
            raise DoppioError(f"redact: rule {place} has {len(rule)} characters; at most {LONGEST}")
        try:
            regex.compile(NAMED.get(rule, rule))
        except regex.error as error:
            raise DoppioError(
                f"redact: rule {place}, {rule!r}, is no regular expression ({error}) and none of {', '.join(NAMED)}"
            ) from error
    return found


def redacted(text: str, rules: Sequence[str]) -> str:
    """A text without what the rules match; empty where one of them takes too long, so that nothing slips through."""
    for rule in rules:
        try:
            text = regex.sub(NAMED.get(rule, rule), TAKEN_OUT, text, timeout=SECONDS)
        except TimeoutError:
            return ""
    return text
