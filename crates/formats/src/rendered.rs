//! The text of an output as a unit gets it in a stage.

use cledger_core::model::OutputFormat;
use cledger_core::render::RenderedOutput;
use zeroize::Zeroizing;

use crate::{Particulars, ReadError, WriteError, format, template, with_header};

/// The text of a file. It may hold secrets.
pub struct OutputText {
    /// The text.
    pub text: Zeroizing<String>,
    /// Whether a secret is in it.
    pub secret: bool,
}

/// An output cannot be written.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RenderError {
    /// Its format cannot hold a value.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// Its template cannot be made use of.
    #[error("{path}:{}: {}", error.line, error.reason)]
    Template {
        /// The template, from the ledger's folder.
        path: String,
        /// What is wrong, and in which line.
        error: ReadError,
    },
}

/// What the format of an output needs to know.
pub fn particulars<'r>(rendered: &'r RenderedOutput<'_>) -> Particulars<'r> {
    let order = Some(&rendered.order);
    Particulars { table: rendered.output.table.as_ref(), manifest_name: &rendered.manifest_name, order }
}

/// Makes the text of an output.
pub fn text_of(rendered: &RenderedOutput<'_>) -> Result<OutputText, RenderError> {
    let tree = rendered.tree();
    if let Some(made_by) = &rendered.output.template {
        let written = template::write(&made_by.text, &made_by.delimiters, &tree)
            .map_err(|error| RenderError::Template { path: made_by.path.clone(), error })?;
        let mut secrets = rendered.values.iter().filter(|(_, (_, effective))| effective.is_secret());
        let secret = secrets.any(|(name, _)| written.used.iter().any(|used| used.starts_with(name)));
        return Ok(OutputText { text: Zeroizing::new(written.text), secret });
    }
    let this: OutputFormat = rendered.output.format;
    let text = match format(this, particulars(rendered)) {
        Some(format) => Zeroizing::new(particulars(rendered).write(&*format, &tree)?),
        None => Zeroizing::default(),
    };
    let text = match &rendered.header {
        Some(header) => Zeroizing::new(with_header(this, header, &text)),
        None => text,
    };
    Ok(OutputText { text, secret: rendered.is_secret() })
}
