//! Enums whose variants are words of a file, a command line or an output: one table for each.

/// An enum that is written as words.
pub trait Word: Copy + Sized + 'static {
    /// What a schema calls it.
    const NAME: &'static str;
    /// Every one, in the order in which they are listed.
    const ALL: &'static [Self];

    /// As it is written.
    fn word(self) -> &'static str;

    /// The one that is written so.
    fn named(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|known| known.word() == word)
    }
}

/// Makes a [`Word`] of a table: `pub enum Access { ReadOnly = "ro", ReadWrite = "rw" }`.
macro_rules! words {
    ($(#[$meta:meta])* $vis:vis enum $name:ident {
        $($(#[$about:meta])* $variant:ident = $word:literal),* $(,)?
    }) => {
        $(#[$meta])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
        $vis enum $name { $($(#[$about])* $variant),* }

        impl $name {
            /// As it is written.
            pub const fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),* }
            }
        }

        impl $crate::words::word::Word for $name {
            const NAME: &'static str = stringify!($name);
            const ALL: &'static [Self] = &[$(Self::$variant),*];

            fn word(self) -> &'static str {
                self.word()
            }
        }
    };
}

pub(crate) use words;
