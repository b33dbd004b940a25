//! The answer of `tarvek compare`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::facts::compare::{Differences, Differing, TableChange};
use tarvek_core::words::path::AbsPath;

use super::common::Path;

/// The answer of `tarvek compare`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/compare/1")]
pub(crate) struct Compare {
    /// `tarvek/compare/1`.
    schema: &'static str,
    /// Only in the new one.
    appeared: Vec<Bunch>,
    /// Only in the old one.
    vanished: Vec<Bunch>,
    /// In both, and different.
    changed: Vec<ChangeDoc>,
    /// Mounts, accounts, groups, shares and other texts of the host.
    tables: Vec<TableDoc>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Bunch {
    #[serde(flatten)]
    path: Path,
    /// How many entries came or went with it.
    with: u64,
}

#[derive(Debug, Serialize, JsonSchema)]
struct ChangeDoc {
    #[serde(flatten)]
    path: Path,
    fields: Vec<FieldDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct FieldDoc {
    field: &'static str,
    old: String,
    new: String,
}

#[derive(Debug, Serialize, JsonSchema)]
struct TableDoc {
    table: String,
    added: Vec<String>,
    removed: Vec<String>,
}

impl From<&Differences> for Compare {
    fn from(differences: &Differences) -> Self {
        let bunch = |(path, with): &(AbsPath, u64)| Bunch { path: path.into(), with: *with };
        let change = |change: &Differing| ChangeDoc {
            path: (&change.path).into(),
            fields: change
                .fields
                .iter()
                .map(|(field, old, new)| FieldDoc { field, old: old.clone(), new: new.clone() })
                .collect(),
        };
        let table = |table: &TableChange| TableDoc {
            table: table.table.raw().to_owned(),
            added: table.added.clone(),
            removed: table.removed.clone(),
        };
        Self {
            schema: "tarvek/compare/1",
            partial: Vec::new(),
            appeared: differences.appeared.iter().map(bunch).collect(),
            vanished: differences.vanished.iter().map(bunch).collect(),
            changed: differences.changed.iter().map(change).collect(),
            tables: differences.tables.iter().map(table).collect(),
        }
    }
}
