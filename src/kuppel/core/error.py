"""The one error that bad input raises: it carries what the person needs to mend it."""


class SettingsError(ValueError):
    """A value that cannot be used: which field, which value, and what it must be.

    >>> str(SettingsError("interval", "0 s", "be at least 1 s"))
    "interval is '0 s'; it must be at least 1 s"
    """

    def __init__(self, field: str, value: object, must: str) -> None:
        self.field = field
        self.value = str(value)
        self.must = must
        super().__init__(f"{field} is {self.value!r}; it must {must}")

    def __reduce__(self) -> tuple[type["SettingsError"], tuple[str, str, str]]:
        return type(self), (self.field, self.value, self.must)
