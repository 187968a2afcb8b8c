"""Notices of sources that are renamed, and of projects that are trimmed."""

from boxkite.core.notices.notice import Kind

RENAMING_UNDONE = Kind("renaming-undone", "renaming {name} was interrupted and is undone: {files:file}")
NOT_RENAMED_BACK = Kind("not-renamed-back", "{reason}")
OLD_NAME_TAKEN = Kind("old-name-taken", "{path} was taken meanwhile: the file is now called {name}")
RENAMINGS_UNREADABLE = Kind("renamings-unreadable", "{reason}")
