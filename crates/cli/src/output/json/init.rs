//! `init` for programs.

use cledger_core::name::Name;
use cledger_work::init::Made;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'m> {
    format: u32,
    files: &'m [String],
    stages: Vec<StageDocument<'m>>,
    written: bool,
}

#[derive(Debug, Serialize)]
struct StageDocument<'m> {
    name: &'m Name,
    class: &'static str,
    guessed: bool,
}

pub(crate) fn document(made: &Made) -> Document<'_> {
    let stages = made.stages.iter();
    let stages =
        stages.map(|(name, class, guessed)| StageDocument { name, class: class.name(), guessed: *guessed });
    Document { format: FORMAT, files: &made.files, stages: stages.collect(), written: made.written }
}
