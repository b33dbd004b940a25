//! The lines of the section `tree`.

use tarvek_core::kernel::entry::{EntryKind, Meta};
use tarvek_core::words::text::shown;

/// Where each field stands in a line of the tree; the path is last.
pub(super) struct Columns {
    names: Vec<Column>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Column {
    Type,
    Mode,
    Uid,
    Gid,
    Size,
    Allocated,
    Inode,
    Links,
    Mtime,
    Ctime,
    Device,
    Path,
}

impl Columns {
    pub(super) fn of(names: &[String]) -> Result<Self, String> {
        let column = |name: &String| {
            Ok(match name.as_str() {
                "type" => Column::Type,
                "mode" => Column::Mode,
                "uid" => Column::Uid,
                "gid" => Column::Gid,
                "size" => Column::Size,
                "allocated" => Column::Allocated,
                "inode" => Column::Inode,
                "links" => Column::Links,
                "mtime" => Column::Mtime,
                "ctime" => Column::Ctime,
                "device" => Column::Device,
                "path" => Column::Path,
                other => return Err(format!("the unknown column {}", shown(other.as_bytes()))),
            })
        };
        let names: Vec<Column> = names.iter().map(column).collect::<Result<_, _>>()?;
        let needed = [Column::Type, Column::Mode, Column::Uid, Column::Gid];
        if names.last() != Some(&Column::Path)
            || needed.iter().any(|column| !names.contains(column))
        {
            return Err(
                "the tree needs the columns type, mode, uid, gid and, last, path".to_owned()
            );
        }
        Ok(Self { names })
    }

    /// The path as written, its column in the line, and the rest as numbers.
    pub(super) fn read<'l>(
        &self,
        line: &'l [u8],
    ) -> Result<(&'l [u8], usize, Meta), (usize, String)> {
        let mut meta = Meta::new(EntryKind::File, 0, 0, 0);
        let mut at = 0;
        for column in &self.names {
            if *column == Column::Path {
                break;
            }
            let length = line[at..].iter().position(|&b| b == b' ');
            let length = length.ok_or((at + 1, "the line is too short".to_owned()))?;
            let field = std::str::from_utf8(&line[at..at + length]).unwrap_or_default();
            self.field(*column, field, &mut meta).ok_or_else(|| {
                (at + 1, format!("{:?} is not what belongs here", shown(field.as_bytes())))
            })?;
            at += length + 1;
        }
        Ok((&line[at..], at + 1, meta))
    }

    fn field(&self, column: Column, field: &str, meta: &mut Meta) -> Option<()> {
        let unknown = field == "-";
        match column {
            Column::Type => {
                meta.kind = match field {
                    "d" => EntryKind::Folder,
                    "f" | "-" => EntryKind::File,
                    "l" => EntryKind::Symlink,
                    "p" => EntryKind::Fifo,
                    "s" => EntryKind::Socket,
                    "b" => EntryKind::BlockDevice,
                    "c" => EntryKind::CharDevice,
                    _ => return None,
                }
            }
            Column::Mode => {
                meta.mode = u16::from_str_radix(field, 8).ok().filter(|mode| *mode <= 0o7777)?
            }
            Column::Uid => meta.uid = field.parse().ok()?,
            Column::Gid => meta.gid = field.parse().ok()?,
            _ if unknown => {}
            Column::Size => meta.size = field.parse().ok()?,
            Column::Allocated => meta.allocated = Some(field.parse().ok()?),
            Column::Inode => meta.inode = Some(field.parse().ok()?),
            Column::Links => meta.links = field.parse().ok()?,
            Column::Mtime => meta.modified = nanoseconds(field)?,
            Column::Ctime => meta.changed = Some(nanoseconds(field)?),
            Column::Device => meta.device = Some(field.parse().ok()?),
            Column::Path => return None,
        }
        Some(())
    }
}

/// `1795300000.5` as nanoseconds.
fn nanoseconds(field: &str) -> Option<i64> {
    let (seconds, fraction) = field.split_once('.').unwrap_or((field, ""));
    let whole: i64 = seconds.parse().ok()?;
    let digits: String = fraction.chars().chain(std::iter::repeat('0')).take(9).collect();
    whole.checked_mul(1_000_000_000)?.checked_add(digits.parse().ok()?)
}
