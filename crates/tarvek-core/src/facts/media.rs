//! What the header of a media file says.

/// What can be read from a file's header, without reading the file.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Media {
    /// How long it plays, in milliseconds; `None` where the header does not say.
    pub millis: Option<u64>,
    /// Of the first picture track, as it is stored: cropping and rotation are not applied.
    pub width: Option<u32>,
    pub height: Option<u32>,
    /// The codec of the first picture track, as `ffprobe` writes it; cover art is no picture track.
    pub video: Option<String>,
    /// The codec of the first sound track.
    pub audio: Option<String>,
    /// Picture and sound tracks.
    pub tracks: u32,
    /// Whether the file ends before what its header speaks of.
    pub cut: bool,
}

impl Media {
    /// What the whole file takes of a line, in bits a second.
    pub fn bits_per_second(&self, bytes: u64) -> Option<u64> {
        let millis = self.millis.filter(|millis| *millis > 0)?;
        u64::try_from(u128::from(bytes) * 8000 / u128::from(millis)).ok()
    }
}
