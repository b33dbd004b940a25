//! Lines for an NFS server's exports (`exports(5)`).

use tarvek_core::layout::host::Host;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::offer::NfsExport;

use super::piece::{Emitted, Piece, Source, say, text, without_secret};
use super::quote::exports_path;

/// The exports of a storage host.
pub fn exports(layout: &Layout, host: &Host, file: &str) -> Emitted {
    let source = Source { file };
    let mut lines = String::new();
    for share in layout.shares.iter().filter(|s| s.host == host.name && !s.nfs.is_empty()) {
        lines += &source.of(share.origin, &format!("share {}", share.name));
        for option in share.nfs.iter().flat_map(|export| &export.options) {
            without_secret(share.origin, option)?;
        }
        let clients: Vec<String> = share
            .nfs
            .iter()
            .map(|export| format!("{}({})", export.clients.raw(), options(export)))
            .collect();
        let path = text(&share.path);
        let path = say(share.origin, &path, exports_path(&path))?;
        // No space before the bracket: with one, the options would be everybody's.
        lines += &format!("{path} {}\n", clients.join(" "));
    }
    Ok(if lines.is_empty() { Vec::new() } else { vec![Piece::new("exports", lines)] })
}

fn options(export: &NfsExport) -> String {
    let mut options = vec![export.access.word().to_owned(), "sync".to_owned()];
    // The default of newer servers; older ones warn if nothing is said.
    options.push("no_subtree_check".into());
    options.push(export.squash.option().into());
    options.extend(export.anonuid.map(|id| format!("anonuid={id}")));
    options.extend(export.anongid.map(|id| format!("anongid={id}")));
    if export.crossmnt {
        options.push("crossmnt".into());
    }
    for option in &export.options {
        if !options.contains(option) {
            options.push(option.clone());
        }
    }
    options.join(",")
}
