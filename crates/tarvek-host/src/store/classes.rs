//! Classes and extras in a survey: rows in the order of their numbers.

use rusqlite::{Connection, Row, params};
use tarvek_core::facts::classes::{Class, Classes, Extras, NONE};
use tarvek_core::kernel::entry::{EntryKind, Flags, Project};
use tarvek_core::kernel::nfs4::Nfs4Acl;
use tarvek_formats::acl;

use super::connection::{StoreError, damaged};
use super::rows::{all as rows, bad};

/// Reads all of them.
pub(super) fn read(db: &Connection) -> Result<Classes, StoreError> {
    let mut all = Classes::default();
    for (n, (id, extras)) in (0..).zip(extras(db)?) {
        if id != n {
            return Err(damaged());
        }
        all.push_extras(extras);
    }
    let sql = "SELECT id, type, mode, uid, gid, device, flags, extras FROM class ORDER BY id";
    let read = |row: &Row| {
        let class = Class {
            kind: kind(row, 1)?,
            mode: row.get(2)?,
            uid: row.get(3)?,
            gid: row.get(4)?,
            device: row.get::<_, Option<i64>>(5)?.map(i64::cast_unsigned),
            flags: flags(row, 6)?,
            extras: row.get::<_, Option<u32>>(7)?.unwrap_or(NONE),
        };
        Ok((row.get::<_, i64>(0)?, class))
    };
    for (n, (id, class)) in (0..).zip(rows(db, sql, read)?) {
        if id != n {
            return Err(damaged());
        }
        all.push(class).ok_or_else(damaged)?;
    }
    Ok(all)
}

/// Reads what some entries have besides, with its numbers.
pub(super) fn extras(db: &Connection) -> rusqlite::Result<Vec<(i64, Extras)>> {
    let read = |row: &Row, column: usize| -> rusqlite::Result<_> {
        let text: Option<String> = row.get(column)?;
        let acl = text.map(|text| acl::read(&text).ok_or_else(|| bad(column, "no ACL")));
        acl.transpose()
    };
    let sql =
        "SELECT id, acl, default_acl, nfs4_acl, label, project, inherits FROM extras ORDER BY id";
    rows(db, sql, |row| {
        let extras = Extras {
            acl: read(row, 1)?,
            default_acl: read(row, 2)?,
            nfs4_acl: row.get::<_, Option<Vec<u8>>>(3)?.as_deref().map(Nfs4Acl::read),
            label: row.get(4)?,
            project: project(row, 5)?,
        };
        Ok((row.get(0)?, extras))
    })
}

/// A project and whether it is inherited, from two columns.
pub(super) fn project(row: &Row, column: usize) -> rusqlite::Result<Option<Project>> {
    Ok(match row.get(column)? {
        Some(id) => Some(Project { id, inherits: row.get(column + 1)? }),
        None => None,
    })
}

/// The type of an entry.
pub(super) fn kind(row: &Row, column: usize) -> rusqlite::Result<EntryKind> {
    let letter = row.get_ref(column)?.as_str().unwrap_or_default();
    let known = LETTERS.iter().find(|(_, known)| *known == letter);
    known.map(|(kind, _)| *kind).ok_or_else(|| bad(column, "no type of entry"))
}

/// The letters by which `find(1)` tells types.
const LETTERS: [(EntryKind, &str); 7] = [
    (EntryKind::Folder, "d"),
    (EntryKind::File, "f"),
    (EntryKind::Symlink, "l"),
    (EntryKind::Fifo, "p"),
    (EntryKind::Socket, "s"),
    (EntryKind::BlockDevice, "b"),
    (EntryKind::CharDevice, "c"),
];

/// Inode flags, where the filesystem told them.
pub(super) fn flags(row: &Row, column: usize) -> rusqlite::Result<Option<Flags>> {
    let letters: Option<String> = row.get(column)?;
    Ok(letters.map(|flags| Flags { immutable: flags.contains('i'), append: flags.contains('a') }))
}

/// Writes those that were not there before.
pub(super) fn write(db: &Connection, before: &Classes, all: &Classes) -> rusqlite::Result<()> {
    for (id, extras) in all.extras().iter().enumerate().skip(before.extras().len()) {
        db.prepare_cached("INSERT INTO extras VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?.execute(
            params![
                id as i64,
                extras.acl.as_ref().map(ToString::to_string),
                extras.default_acl.as_ref().map(ToString::to_string),
                extras.nfs4_acl.as_ref().map(Nfs4Acl::bytes),
                extras.label,
                extras.project.map(|project| project.id),
                extras.project.map(|project| project.inherits)
            ],
        )?;
    }
    for (id, class) in all.classes().iter().enumerate().skip(before.classes().len()) {
        let letter =
            LETTERS.iter().find(|(kind, _)| *kind == class.kind).expect("all stand there").1;
        db.prepare_cached("INSERT INTO class VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?.execute(
            params![
                id as i64,
                letter,
                class.mode,
                class.uid,
                class.gid,
                class.device.map(u64::cast_signed),
                class.flags.map(Flags::letters),
                (class.extras != NONE).then_some(class.extras)
            ],
        )?;
    }
    Ok(())
}
