//! A review is read or refused, whatever is in it; no path of it leads anywhere but where it says.
#![no_main]

use libfuzzer_sys::fuzz_target;
use tarvek_formats::ignored::Ignored;
use tarvek_formats::review;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(review) = review::read("review.csv", bytes) {
        for row in &review.rows {
            assert!(row.path.components().all(|part| part != b".." && part != b"."));
        }
    }
    let ignored = Ignored::read(&String::from_utf8_lossy(bytes));
    assert_eq!(Ignored::read(&ignored.write()), ignored);
});
