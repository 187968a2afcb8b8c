"""The tables of the records, and how an older store becomes one of today's."""

from __future__ import annotations

import sqlite3

FORM = 5
_OF_FORM_1 = """
create table batch (
    id integer primary key, name text unique not null, started text not null, machine text not null,
    pattern text not null, version integer);
create table file (
    batch integer not null references batch (id) on delete cascade,
    number integer, path blob, plain_name, source blob, stamp, in_frame, out_frame, preset, recipe, marker, clip,
    in_timecode, out_timecode, state, checksum, size_bytes, pixels, seconds,
    primary key (batch, number)) without rowid;
create index file_by_path on file (path);
"""
_TO_FORM_2 = """
alter table batch add column state text not null default 'ended';
alter table batch add column ended text not null default '';
alter table batch add column seconds real not null default 0;
alter table batch add column process integer not null default 0;
alter table batch add column stop text not null default '';
alter table batch add column folders text not null default '[]';
alter table batch add column settings text not null default '{}';
alter table batch add column note text not null default '';
alter table file add column threads integer not null default 0;
alter table file add column frames integer not null default 0;
alter table file add column frames_done integer not null default 0;
alter table file add column attempts integer not null default 0;
alter table file add column started text not null default '';
alter table file add column ended text not null default '';
alter table file add column failure text not null default '';
alter table file add column warnings text not null default '[]';
alter table file add column partial blob not null default '';
create index file_by_state on file (batch, state, frames, frames_done, size_bytes);
create table packed_plan (
    batch integer primary key references batch (id) on delete cascade, content blob not null);
create table entry (
    id integer primary key, batch integer not null references batch (id) on delete cascade,
    number integer not null, at text not null, kind text not null, text text not null);
create index entry_of_batch on entry (batch, number, id);
create table landed (
    folder text not null, path blob not null, stamp text not null, state text not null, batch text not null,
    reason text not null, at text not null, primary key (folder, path)) without rowid;
"""
_TO_FORM_3 = """
alter table batch add column waits_for text not null default '';
drop table packed_plan;
create table plan_document (
    batch integer primary key references batch (id) on delete cascade, content blob not null);
update entry set kind = 'failure', text = substr(text, 9) where kind = 'state' and text like 'failed: %';
update file set state = 'verified' where state = 'proved';
update entry set text = 'verified' where kind = 'state' and text = 'proved';
"""
_TO_FORM_4 = """
create table handover (
    id integer primary key, batch integer references batch (id) on delete cascade, at text not null,
    who text not null, kind text not null, path blob not null, note text not null);
create index handover_of_batch on handover (batch, id);
"""
_TO_FORM_5 = """
create table sending (
    id integer primary key, destination text not null, who text not null, started text not null,
    ended text not null default '');
create table sent_file (
    sending integer not null references sending (id) on delete cascade, name text not null, path blob not null,
    checksum text not null, size_bytes integer not null, partial text not null default '', state text not null,
    tag text not null default '', how text not null default '', at text not null,
    primary key (sending, name)) without rowid;
create index sent_to on sent_file (name, state);
create table step (
    batch integer not null references batch (id) on delete cascade, number integer not null, kind text not null,
    options text not null, state text not null default 'waiting', paths text not null default '[]',
    outcome text not null default '', at text not null default '', primary key (batch, number)) without rowid;
"""
_STEPS = {0: _OF_FORM_1, 1: _TO_FORM_2, 2: _TO_FORM_3, 3: _TO_FORM_4, 4: _TO_FORM_5}
"""Migrations from each version of the schema to the next."""


def bring_up_to_date(store: sqlite3.Connection) -> bool:
    """Make the tables, or add what an older store is missing. False for a later version's. Raises sqlite3.Error."""
    form = _form(store)
    if form == FORM:
        return True
    if form not in _STEPS:
        return False
    store.execute("begin immediate")
    try:
        for step in range(_form(store), FORM):
            for statement in _STEPS[step].split(";\n"):
                store.execute(statement)
        store.execute(f"pragma user_version = {FORM}")
    except BaseException:
        store.execute("rollback")
        raise
    store.execute("commit")
    return True


def _form(store: sqlite3.Connection) -> int:
    return int(store.execute("pragma user_version").fetchone()[0])
