//! Compose files are read, whatever they hold, with whatever stands beside them, and what was read becomes a layout that is one.
#![no_main]

use std::path::{Path, PathBuf};

use libfuzzer_sys::fuzz_target;
use tarvek_core::adopt::adopt;
use tarvek_core::layout::site::Layout;
use tarvek_formats::config::recognise::Format;
use tarvek_formats::config::{self, Around, File};
use tarvek_formats::layout::extend::extend;

fuzz_target!(|bytes: &[u8]| {
    // The first part is the file, the others are what it may name.
    let mut parts = bytes.splitn(3, |&b| b == 0);
    let main = parts.next().unwrap_or_default().to_vec();
    let others: Vec<Vec<u8>> = parts.map(<[u8]>::to_vec).collect();
    let read = |path: &Path| {
        let at = path.as_os_str().len() % 2;
        others.get(at).cloned().ok_or_else(|| "there is none".to_owned())
    };
    let variable = |name: &str| (name.len() % 2 == 0).then(|| "/v".to_owned());
    let around = Around { read: &read, variable: &variable };
    let file = File::new(PathBuf::from("/d/compose.yaml"), "compose.yaml".into(), main);
    let (configuration, _) = config::read(&[(Format::Compose, file)], &around);
    let adoption = adopt(&[("millrace".into(), configuration)], &Layout::default());
    if let Ok(written) = extend(None, &"S".into(), adoption) {
        tarvek_formats::layout::read("adopted", written.text.as_bytes()).expect("a layout");
    }
});
