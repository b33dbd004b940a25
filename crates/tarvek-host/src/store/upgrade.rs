//! From version 4 of a survey, a row per entry, to what is written now.

use rusqlite::{Connection, params};
use tarvek_core::facts::tree::NodeId;

use super::headers::header_row;
use super::load::{Contents, by_row};
use super::save::{Writer, put_tree};
use super::shape::tables;
use super::{StoreError, VERSION, rows};

/// Writes a survey of version 4 anew, in its file and in one transaction.
///
/// # Errors
/// If it is damaged, or can't be written.
pub(super) fn upgrade(db: Connection) -> Result<Connection, StoreError> {
    db.execute_batch("BEGIN IMMEDIATE")?;
    let (tree, ids) = rows::tree(&db)?;
    let (digests, media) = {
        let contents = Contents { db: &db, entry: by_row(ids) };
        (contents.all_digests(&tree)?, contents.media()?)
    };
    db.execute_batch("DROP TABLE content; DROP TABLE media; DROP TABLE entry; DROP TABLE extras;")?;
    db.execute_batch(&tables(&["folder", "class", "extras", "content", "media"]))?;
    let writer = Writer::new(db)?;
    let put = put_tree(&writer, &tree);
    let db = writer.done()?.into_db()?;
    let folders = put.expect("an error was kept");
    let place = |node: NodeId| (folders[&tree.parent(node)], tree.name(node));
    for (node, digest) in digests {
        let (folder, name) = place(node);
        db.prepare_cached("INSERT INTO content VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?.execute(
            params![folder, name, digest.blake3, digest.changed, digest.head, digest.ends],
        )?;
    }
    for (node, media) in media {
        let (folder, name) = place(node);
        header_row(&db, folder, name, media.as_ref())?;
    }
    db.execute_batch(&format!(
        "DELETE FROM survey WHERE key = 'dense'; PRAGMA user_version = {VERSION}; COMMIT;"
    ))?;
    Ok(db)
}
