"""The user's own recipes, for all projects: readable files in the data folder."""

from __future__ import annotations

from ...core.errors import InputError
from ...project.batch import recipe as recipes
from ...project.batch.names import file_name
from .. import settings


def _folder():
    folder = settings.data_folder() / "recipes"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def known():
    """``(recipes by their names, sentences about files that can't be read)``."""
    found, wrong = {}, []
    for path in sorted(_folder().glob("*.recipe")):
        try:
            one = recipes.load(path)
            found[one.name or path.stem] = one
        except InputError as error:
            wrong.append(str(error))
    return found, wrong


def keep(recipe):
    """Keep a recipe under its name; one of that name is replaced. InputError where that can't be done."""
    recipes.save(_folder() / f"{file_name(recipe.name)}.recipe", recipe, overwrite=True)


def remove(name):
    """Take a recipe away."""
    for path in _folder().glob("*.recipe"):
        try:
            one = recipes.load(path)
        except InputError:
            continue
        if (one.name or path.stem) == name:
            path.unlink(missing_ok=True)
