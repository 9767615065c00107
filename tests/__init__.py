"""All tests. Examples of properties have no deadline: the machines that run them are shared."""

from hypothesis import settings

settings.register_profile("shared", deadline=None)
settings.load_profile("shared")
