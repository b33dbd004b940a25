//! Configuration of every format is read, whatever it holds: the first byte says which format.
#![no_main]

use std::path::{Path, PathBuf};

use libfuzzer_sys::fuzz_target;
use tarvek_core::adopt::adopt;
use tarvek_core::layout::site::Layout;
use tarvek_formats::config::recognise::{Format, recognise};
use tarvek_formats::config::{self, Around, File};
use tarvek_formats::layout::extend::extend;

const FORMATS: [Format; 17] = [
    Format::Quadlet,
    Format::Unit,
    Format::Fstab,
    Format::Mounts,
    Format::Mountinfo,
    Format::Printed,
    Format::Lxc,
    Format::Exports,
    Format::Smb,
    Format::Passwd,
    Format::Group,
    Format::Subuid,
    Format::Subgid,
    Format::Folders,
    Format::Datasets,
    Format::Drives,
    Format::Urls,
];

fuzz_target!(|bytes: &[u8]| {
    let Some((&first, rest)) = bytes.split_first() else { return };
    let format = FORMATS[first as usize % FORMATS.len()];
    let file = File::new(PathBuf::from("/d/file"), "file".into(), rest.to_vec());
    let _ = recognise(&file.path, &file.text);
    // A file that includes another one may include itself.
    let read = |_: &Path| Ok(rest.to_vec());
    let around = Around { read: &read, variable: &|_| None };
    let (configuration, _) = config::read(&[(format, file)], &around);
    let adoption = adopt(&[("granary".into(), configuration)], &Layout::default());
    if let Ok(written) = extend(None, &"S".into(), adoption) {
        tarvek_formats::layout::read("adopted", written.text.as_bytes()).expect("a layout");
    }
});
