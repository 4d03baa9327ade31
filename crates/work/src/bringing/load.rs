//! What has to be done at an outlet, as what is sent there.

use cledger_outlets::bring::{Content, Load, NewFile};
use cledger_outlets::held::Held;

use crate::bringing::plan::{End, Planned};
use crate::trouble::Trouble;

/// What is sent to an outlet, if anything has to be done there. What was seen there goes with it.
pub(super) fn load(planned: &mut Planned<'_>, owner: &str) -> Result<Option<Load>, Trouble> {
    if !planned.has_work() {
        return Ok(None);
    }
    let source = &planned.sight.place.source;
    let asked = source.asked.get(owner).cloned();
    let asked = asked.ok_or_else(|| Trouble::outside("it was not looked at"))?;
    let (mut files, mut gone, mut one) = (Vec::new(), Vec::new(), None);
    for part in &mut planned.parts {
        let end = std::mem::replace(&mut part.end, End::Kept);
        match (end, &part.path) {
            (End::Kept, _) => {}
            (End::Written(text, mode), Some(path)) => {
                files.push(NewFile { path: path.clone(), text, secret: part.is_secret, mode });
            }
            (End::Gone, Some(path)) => gone.push(path.clone()),
            (End::Written(text, _), None) => one = Some(Content::Document(text)),
            (End::Gone, None) => one = Some(Content::NoDocument),
            (End::Changed(changes), _) => one = Some(Content::Rows(changes)),
        }
    }
    let content = one.unwrap_or(Content::Files(files, gone));
    let seen = std::mem::replace(&mut planned.sight.held, Held::NotThere);
    Ok(Some(Load { reach: source.reach_of(owner).clone(), asked, seen, content, limit: source.limit }))
}
