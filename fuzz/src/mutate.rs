//! Changes at random, repeatable by their seed.

/// Numbers at random (SplitMix64).
#[derive(Debug)]
pub(crate) struct Random(u64);

impl Random {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed)
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub(crate) fn below(&mut self, end: usize) -> usize {
        (self.next() % end.max(1) as u64) as usize
    }

    pub(crate) fn one<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len())]
    }
}

/// Numbers at which counts and lengths go wrong.
const EDGES: [u64; 12] = [
    0,
    1,
    0x7f,
    0x80,
    0xff,
    0x7fff,
    0xffff,
    0x7fff_ffff,
    0x8000_0000,
    0xffff_ffff,
    0x7fff_ffff_ffff_ffff,
    u64::MAX,
];

/// Texts that mean something to some format.
const TEXTS: [&str; 24] = [
    "\0",
    "\n",
    "\r\n",
    "=",
    ":",
    "{",
    "}",
    "[",
    "]",
    "\"",
    "'",
    "\\",
    "/..",
    "${",
    "$(",
    "#",
    "\t",
    "-",
    "0x",
    "\u{feff}",
    "\u{202e}",
    "99999999999999999999",
    "&a [*a, *a]",
    "\u{1b}[2J",
];

/// No input grows beyond this.
const LONGEST: usize = 64 << 10;

/// A sample with some changes.
pub(crate) fn spoiled(random: &mut Random, from: &[u8], samples: &[Vec<u8>]) -> Vec<u8> {
    let mut bytes = from.to_vec();
    for _ in 0..1 + random.below(6) {
        change(random, &mut bytes, samples);
    }
    bytes.truncate(LONGEST);
    bytes
}

fn change(random: &mut Random, bytes: &mut Vec<u8>, samples: &[Vec<u8>]) {
    let at = random.below(bytes.len() + 1);
    let length = random.below(bytes.len() - at + 1).min(1 << random.below(13));
    match random.below(9) {
        0 if at < bytes.len() => bytes[at] ^= 1 << random.below(8),
        1 if at < bytes.len() => bytes[at] = random.next() as u8,
        2 => drop(bytes.drain(at..at + length)),
        3 => bytes.truncate(at),
        4 => {
            let part = bytes[at..at + length].to_vec();
            let to = random.below(bytes.len() + 1);
            for _ in 0..1 + random.below(4) {
                bytes.splice(to..to, part.iter().copied());
            }
        }
        5 => {
            let other = random.one(samples);
            let from = random.below(other.len() + 1);
            let count = random.below(other.len() - from + 1);
            bytes.splice(at..at + length, other[from..from + count].iter().copied());
        }
        6 => {
            let text = random.one(&TEXTS).bytes();
            bytes.splice(at..at, text);
        }
        7 => {
            // A number somewhere, in either order of bytes.
            let number = *random.one(&EDGES);
            let width = 1 << random.below(4);
            let end = (at + width).min(bytes.len());
            let big = random.below(2) == 0;
            for (n, byte) in bytes[at..end].iter_mut().enumerate() {
                let shift = if big { width - 1 - n } else { n };
                *byte = (number >> (8 * shift)) as u8;
            }
        }
        _ => {
            let digits = random.one(&EDGES).to_string();
            bytes.splice(at..at + length.min(4), digits.into_bytes());
        }
    }
}
