//! Names of files mean something or nothing, whatever they are, and safe names are safe.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_core::forecast::filed::Shelf;
use tarvek_core::forecast::reading::language;
use tarvek_core::forecast::share_names::safe_name;
use tarvek_core::words::terms::Kind;
use tarvek_core::words::word::Word;

fuzz_target!(|bytes: &[u8]| {
    let text = String::from_utf8_lossy(bytes);
    let mut folders: Vec<String> = text.split('/').map(str::to_owned).collect();
    let name = folders.pop().unwrap_or_default();
    for kind in Kind::ALL {
        let shelf = Shelf::new(*kind, folders.clone());
        if let Ok(filed) = shelf.file(&name, bytes.len() % 2 == 0) {
            assert!(!filed.title.is_empty() || name.is_empty());
        }
        shelf.agrees(&name);
    }
    let _ = language(&name);
    if let Some(safe) = safe_name(bytes) {
        assert_eq!(safe_name(&safe), None, "{:?}", String::from_utf8_lossy(&safe));
    }
});
