//! What a text says beside its words: the same five meanings in all outputs.

/// What a text says beside its words. Colour backs it, and a word or mark always says the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Tone {
    /// Nothing in particular.
    #[default]
    Plain,
    /// Something that must be mended.
    Bad,
    /// Something that somebody should look at.
    Doubtful,
    /// Something that is as it should be.
    Good,
    /// Something beside the point.
    Quiet,
}

impl Tone {
    /// Its colour on a terminal, by its number among 256. The yellow is a darker one than terminals have as theirs, which
    /// is not legible on white.
    pub fn number(self) -> Option<u8> {
        match self {
            Tone::Plain => None,
            Tone::Bad => Some(1),
            Tone::Doubtful => Some(136),
            Tone::Good => Some(2),
            Tone::Quiet => Some(8),
        }
    }
}
