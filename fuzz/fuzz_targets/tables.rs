//! The tables and outputs of other programs that hosts keep are read, whatever they hold, and what was read can be asked.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_core::facts::host::Document;
use tarvek_core::words::path::AbsPath;
use tarvek_formats::{accounts, acl, fstab, mountinfo, told};

fuzz_target!(|bytes: &[u8]| {
    if let Ok(table) = mountinfo::read(bytes) {
        for entry in table.entries() {
            let _ = (table.at(&entry.point), table.bind_source(entry), table.covers_itself(entry));
        }
        let _ = (table.root(), table.covered().count());
    }
    for line in fstab::read(bytes) {
        let _ = (line.at_boot(), line.options.access());
    }
    let (passwd, group) = bytes.split_at(bytes.len() / 2);
    let _ = accounts::read(passwd, group);
    let _ = acl::read(&String::from_utf8_lossy(bytes)).map(|acl| acl.to_string());
    let _ = AbsPath::of_client(bytes).map(|path| path.to_string());
    let names = ["capacity", "btrfs", "xfs", "zfs", "smb", "subuid", "subgid", "sysctl", "lacking", "exports", "units", "ports", "processes"];
    let documents: Vec<Document> = names.iter().map(|name| Document::new(*name, bytes)).collect();
    let _ = told::read(&documents, mountinfo::read(bytes).ok().as_ref());
});
