//! Tables that stand in a list: `[[stage]]`, `[[stage.chore]]` below one of these, or tables in brackets
//! (`follow = [{ stage = "dev" }]`).

use cledger_core::value::Value;

use super::brackets::{self, with_element, without_element};
use super::change::{change_in, found_at, without_found};
use super::lines::{line_start, newline};
use super::outline::{Body, Holds, Node, Pair, outline};
use super::tables::{end_of_content, start_with_comments, without_bodies};
use super::{What, key, parse_value};

/// One of the tables of a list, known by what stands in it.
#[derive(Debug, Clone, PartialEq)]
pub struct Item {
    /// The steps to the list, from the table around it.
    pub list: Vec<String>,
    /// Values by which it is known: the first that has them all is meant.
    pub has: Vec<(&'static str, Value)>,
}

impl Item {
    /// The one with this name.
    pub fn named(list: &str, name: &str) -> Self {
        Self { list: vec![list.to_owned()], has: vec![("name", Value::text(name))] }
    }
}

/// Where one of a list stands among the others.
#[derive(Debug, Clone)]
pub enum Beside {
    /// Right before this one.
    Before(Item),
    /// Right behind this one.
    Behind(Item),
}

/// What becomes of a table in a list.
#[derive(Clone)]
pub enum ListedWhat {
    /// What these steps of keys lead to in it gets this value.
    Set(Vec<String>, String),
    /// What these steps lead to goes.
    Unset(Vec<String>),
    /// It goes, with what is below it and the comments right above it.
    Remove,
    /// A list of it (or of the file, where no item is named) gets one more table, with these keys and values.
    Add(String, Vec<(String, String)>),
    /// The same, in brackets where there is no such list yet.
    AddInBrackets(String, Vec<(String, String)>),
    /// It gets another place in its list.
    Move(Beside),
}

/// The step in front of paths into a table in brackets.
const HERE: &str = "\0";

/// What of a file can be seen from one of its tables.
struct View {
    bodies: Vec<Body>,
    /// The steps in front of each path.
    lead: Vec<String>,
    /// The steps of headers to here, which the paths of `bodies` leave out.
    header: Vec<String>,
}

/// The text after a change of what these items lead to; an error says what stands in its way.
pub(super) fn change_listed(text: &str, items: &[Item], what: &ListedWhat) -> Result<String, String> {
    let seen = |items: &[Item]| -> Result<View, String> {
        let bodies = outline(text).ok_or("it is not TOML")?;
        let whole = View { bodies, lead: Vec::new(), header: Vec::new() };
        items.iter().try_fold(whole, |view, item| view.enter(text, item).ok_or_else(|| not_there(item)))
    };
    match what {
        ListedWhat::Set(steps, literal) => {
            let view = seen(items)?;
            change_in(text, &view.bodies, &view.path(steps), 0, &What::Set(literal.clone()))
        }
        ListedWhat::Unset(steps) => {
            let view = seen(items)?;
            change_in(text, &view.bodies, &view.path(steps), 0, &What::Remove)
        }
        ListedWhat::Add(list, pairs) => seen(items)?.added(text, list, pairs, false),
        ListedWhat::AddInBrackets(list, pairs) => seen(items)?.added(text, list, pairs, true),
        ListedWhat::Remove => {
            let Some((last, outer)) = items.split_last() else { return Ok(text.to_owned()) };
            let view = seen(outer)?;
            // What is not there need not go.
            if view.text_of(text, last).is_none() { Ok(text.to_owned()) } else { view.removed(text, last) }
        }
        ListedWhat::Move(beside) => {
            let Some((last, outer)) = items.split_last() else { return Ok(text.to_owned()) };
            let block = seen(outer)?.text_of(text, last).ok_or_else(|| not_there(last))?;
            let without = seen(outer)?.removed(text, last)?;
            let bodies = outline(&without).ok_or("it is not TOML")?;
            let whole = View { bodies, lead: Vec::new(), header: Vec::new() };
            let view = outer
                .iter()
                .try_fold(whole, |view, item| view.enter(&without, item).ok_or_else(|| not_there(item)))?;
            view.put(&without, &block, beside)
        }
    }
}

/// What stands at these steps below the last of these items, or of the file where none is named.
pub(super) fn said(text: &str, items: &[Item], steps: &[String]) -> Option<String> {
    let whole = View { bodies: outline(text)?, lead: Vec::new(), header: Vec::new() };
    let view = items.iter().try_fold(whole, |view, item| view.enter(text, item))?;
    let path = view.path(steps);
    let node = view.bodies.iter().find_map(|body| found_at(body, &path))?;
    Some(text[node.span.clone()].to_owned())
}

fn not_there(item: &Item) -> String {
    let known: Vec<String> =
        item.has.iter().map(|(key, value)| format!("{key} = {}", super::literal(value, None))).collect();
    format!("it has no `{}` with {}", item.list.join("."), known.join(", "))
}

impl View {
    fn path<'p>(&'p self, steps: impl IntoIterator<Item = &'p String>) -> Vec<&'p str> {
        self.lead.iter().chain(steps).map(String::as_str).collect()
    }

    /// What can be seen from one of its items.
    fn enter(self, text: &str, item: &Item) -> Option<Self> {
        if let Some((from, to)) = self.region(text, item) {
            let header = [self.header, item.list.clone()].concat();
            let end = self.bodies.get(to).map(|next| next.header.clone());
            let inside = self.bodies.into_iter().skip(from).take(to - from);
            let mut bodies: Vec<Body> = inside.map(|body| below(body, item.list.len())).collect();
            bodies[0].listed = false;
            // What follows ends the last table, and is no part of it.
            bodies.extend(end.map(|header| Body {
                path: vec![HERE.to_owned()],
                listed: true,
                header,
                ..Body::default()
            }));
            return Some(Self { bodies, lead: Vec::new(), header });
        }
        let (node, _) = self.element(text, item)?;
        let pair = Pair {
            keys: vec![HERE.to_owned()],
            places: vec![node.span.clone()],
            span: node.span.clone(),
            value: node,
        };
        let bodies = vec![Body { pairs: vec![pair], ..Body::default() }];
        Some(Self { bodies, lead: vec![HERE.to_owned()], header: Vec::new() })
    }

    /// The tables with headers that make an item: the first, and the one behind the last.
    fn region(&self, text: &str, item: &Item) -> Option<(usize, usize)> {
        let is_it = |body: &Body| body.listed && body.path == item.list && has(text, &body.pairs, item);
        let from = self.bodies.iter().position(is_it).filter(|_| self.lead.is_empty())?;
        Some((from, self.end_of_region(from)))
    }

    fn end_of_region(&self, from: usize) -> usize {
        let path = &self.bodies[from].path;
        let is_below = |body: &Body| body.path.starts_with(path) && !(body.listed && body.path == *path);
        let below = self.bodies[from + 1..].iter().take_while(|body| is_below(body)).count();
        from + 1 + below
    }

    /// The list in brackets at some steps.
    fn list(&self, list: &[String]) -> Option<&Node> {
        let path = self.path(list);
        let found = self.bodies.iter().find_map(|body| found_at(body, &path))?;
        matches!(found.holds, Holds::List(_)).then_some(found)
    }

    /// An item in brackets, and its position.
    fn element(&self, text: &str, item: &Item) -> Option<(Node, usize)> {
        let Holds::List(elements) = &self.list(&item.list)?.holds else { return None };
        let is_it = |node: &Node| node.pairs().is_some_and(|pairs| has(text, pairs, item));
        let at = elements.iter().position(is_it)?;
        Some((elements[at].clone(), at))
    }

    /// The text with one more item.
    fn added(
        &self,
        text: &str,
        list: &str,
        pairs: &[(String, String)],
        in_brackets: bool,
    ) -> Result<String, String> {
        let steps = [list.to_owned()];
        let inline = || {
            let pairs: Vec<String> =
                pairs.iter().map(|(name, literal)| format!("{} = {literal}", key(name))).collect();
            format!("{{ {} }}", pairs.join(", "))
        };
        if let Some(node) = self.list(&steps) {
            return with_element(text, node, &inline());
        }
        let of_list = self.bodies.iter().rposition(|body| body.listed && body.path == steps);
        if !self.lead.is_empty() || in_brackets && of_list.is_none() {
            let what = What::Set(format!("[{}]", inline()));
            return change_in(text, &self.bodies, &self.path(&steps), 0, &what);
        }
        let header: Vec<String> = self.header.iter().chain(&steps).map(|step| key(step)).collect();
        let lines: Vec<String> = pairs
            .iter()
            .map(|(name, literal)| {
                format!(
                    "{} = {literal}
",
                    key(name)
                )
            })
            .collect();
        let block = format!("[[{}]]\n{}", header.join("."), lines.concat());
        Ok(match of_list.map(|at| self.end_of_region(at)) {
            Some(end) => behind(text, end_of_content(text, &self.bodies[end - 1]), &block),
            None if self.header.is_empty() => super::append(Some(text), &block),
            None => {
                let final_one = self.bodies.iter().rfind(|body| body.path != [HERE]);
                let final_one = final_one.ok_or("the table around it is not there")?;
                behind(text, end_of_content(text, final_one), &block)
            }
        })
    }

    /// The text without an item.
    fn removed(&self, text: &str, item: &Item) -> Result<String, String> {
        if let Some((from, to)) = self.region(text, item) {
            return Ok(without_bodies(text, &self.bodies, from..to));
        }
        let (_, at) = self.element(text, item).ok_or_else(|| not_there(item))?;
        let path = self.path(&item.list);
        let list = self.list(&item.list).ok_or_else(|| not_there(item))?;
        match brackets::elements(list) {
            [_] => Ok(without_found(text, &self.bodies, &path)),
            _ => Ok(without_element(text, list, at)),
        }
    }

    /// What an item says, with the comments right above it.
    fn text_of(&self, text: &str, item: &Item) -> Option<String> {
        if let Some((from, to)) = self.region(text, item) {
            let end = end_of_content(text, &self.bodies[to - 1]);
            return Some(text[start_with_comments(text, &self.bodies[from])..end].to_owned());
        }
        self.element(text, item).map(|(node, _)| text[node.span].to_owned())
    }

    /// The text with an item's own text at another place.
    fn put(&self, text: &str, block: &str, beside: &Beside) -> Result<String, String> {
        let (Beside::Before(other) | Beside::Behind(other)) = beside;
        let is_before = matches!(beside, Beside::Before(_));
        if let Some((from, to)) = self.region(text, other) {
            let block =
                if block.ends_with('\n') { block.to_owned() } else { format!("{block}{}", newline(text)) };
            return Ok(if is_before {
                let at = start_with_comments(text, &self.bodies[from]);
                format!("{}{block}{}{}", &text[..at], newline(text), &text[at..])
            } else {
                behind(text, end_of_content(text, &self.bodies[to - 1]), &block)
            });
        }
        let (_, at) = self.element(text, other).ok_or_else(|| not_there(other))?;
        let list = self.list(&other.list).ok_or_else(|| not_there(other))?;
        brackets::with_element_at(text, list, at + usize::from(!is_before), block)
    }
}

/// A table as it is seen from one around it.
fn below(mut body: Body, steps: usize) -> Body {
    body.path.drain(..steps);
    body.places.drain(..steps);
    body
}

/// Whether a table has the values by which an item is known.
fn has(text: &str, pairs: &[Pair], item: &Item) -> bool {
    item.has.iter().all(|(key, wanted)| {
        let mut values = pairs.iter().filter(|pair| pair.keys == [*key]);
        values.any(|pair| parse_value(&text[pair.value.span.clone()]).as_ref() == Some(wanted))
    })
}

/// The text with a block behind a line, a blank line between.
fn behind(text: &str, at: usize, block: &str) -> String {
    let ending = newline(text);
    let block = block.replace("\r\n", "\n").replace('\n', ending);
    if text[..at].ends_with('\n') {
        format!("{}{ending}{block}{}", &text[..at], &text[at..])
    } else {
        debug_assert_eq!(line_start(text, at).max(at), at);
        format!("{}{ending}{ending}{}{}", &text[..at], block.trim_end_matches(['\r', '\n']), &text[at..])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BLOCKS: &str = "name = \"x\"\n\n# first\n[[stage]]\nname = \"dev\"\nlocked = true # why\n# own = []\n\n[stage.labels]\nregion = \"n\"\n\n[[stage]]\nname = \"test\"\n\n[[stage.chore]]\ntext = \"say \\\"so\\\"\"\n\n# --- outlets ---\n\n[[outlet]]\nname = \"a\"\n";
    const BRACKETS: &str = "name = \"x\"\nstage = [\n  { name = \"dev\", locked = true }, # one\n  { name = \"test\", chore = [{ text = 'say \"so\"' }] },\n]\n";

    fn made(text: &str, items: &[Item], what: ListedWhat) -> String {
        let text = change_listed(text, items, &what).unwrap();
        assert!(toml::from_str::<toml::Table>(&text).is_ok(), "{text}");
        text
    }

    fn chore(text: &str) -> Item {
        Item { list: vec!["chore".to_owned()], has: vec![("text", Value::text(text))] }
    }

    #[test]
    fn keys_of_one_of_a_list_change_and_nothing_else() {
        let dev = [Item::named("stage", "dev")];
        let set = |name: &str, literal: &str| ListedWhat::Set(vec![name.to_owned()], literal.to_owned());
        let unset = |name: &str| ListedWhat::Unset(vec![name.to_owned()]);
        for (text, what, from, to) in [
            (BLOCKS, set("locked", "false"), "locked = true", "locked = false"),
            (BLOCKS, set("own", "[1]"), "# why\n", "# why\nown = [1]\n"),
            (BLOCKS, unset("locked"), "locked = true # why\n", ""),
            (BRACKETS, set("locked", "false"), "locked = true", "locked = false"),
            (BRACKETS, set("own", "[1]"), "locked = true }", "locked = true, own = [1] }"),
            (BRACKETS, unset("locked"), ", locked = true", ""),
        ] {
            assert_eq!(made(text, &dev, what), text.replacen(from, to, 1));
        }
        let text = made(BLOCKS, &dev, unset("labels"));
        assert_eq!(text, BLOCKS.replace("\n[stage.labels]\nregion = \"n\"\n", ""));
    }

    #[test]
    fn what_is_added_goes_again_without_a_trace() {
        let pairs = |name: &str, value: &str| vec![(name.to_owned(), format!("\"{value}\""))];
        let add = |list: &str, pairs: Vec<(String, String)>| ListedWhat::Add(list.to_owned(), pairs);
        let texts = [
            "",
            "# only words",
            "name = \"x\"",
            "name = \"x\"\r\n",
            BLOCKS,
            BRACKETS,
            "stage = [{ name = \"dev\" }, { name = \"test\" }]\n",
            "stage = [\n  { name = \"dev\" },\n  { name = \"test\" } # two\n]\n",
            "[[stage]]\nname = \"dev\"\n[[stage]]\nname = \"test\"\n[check]\n",
        ];
        for text in texts {
            let with = made(text, &[], add("stage", pairs("name", "new")));
            assert!(with.contains("new"), "{with}");
            assert_eq!(made(&with, &[Item::named("stage", "new")], ListedWhat::Remove), text, "{with}");
            if text.contains("test") {
                let items = [Item::named("stage", "test"), chore("go")];
                let with = made(text, &items[..1], add("chore", pairs("text", "go")));
                assert_eq!(made(&with, &items, ListedWhat::Remove), text, "{with}");
            }
        }
        let said = [Item::named("stage", "test"), chore("say \"so\"")];
        assert_eq!(
            made(BLOCKS, &said, ListedWhat::Remove),
            BLOCKS.replace("\n[[stage.chore]]\ntext = \"say \\\"so\\\"\"\n", "")
        );
        let without = made(BRACKETS, &said, ListedWhat::Remove);
        assert!(without.contains("{ name = \"test\" },"), "{without}");
    }

    #[test]
    fn what_moves_takes_its_comments_along_and_comes_back() {
        for text in [BLOCKS, BRACKETS] {
            let (dev, test) = (Item::named("stage", "dev"), Item::named("stage", "test"));
            let turned =
                made(text, std::slice::from_ref(&test), ListedWhat::Move(Beside::Before(dev.clone())));
            assert!(turned.find("\"test\"") < turned.find("\"dev\""), "{turned}");
            let back =
                made(&turned, std::slice::from_ref(&test), ListedWhat::Move(Beside::Behind(dev.clone())));
            assert_eq!(back, text, "{turned}");
            let other = made(text, std::slice::from_ref(&dev), ListedWhat::Move(Beside::Behind(test)));
            let tree = |text: &str| toml::from_str::<toml::Table>(text).unwrap();
            assert_eq!(tree(&other), tree(&turned), "{other}");
        }
    }

    #[test]
    fn lists_of_texts_gain_and_lose() {
        use super::super::{Edit, one::change};
        let edit = |what| Edit { file: String::new(), path: vec!["uses".to_owned()], header: 0, what };
        for text in [
            "[variables.a]\n",
            "# A desk\n\n[variables.a]\n",
            "# A desk\n[variables.a]\n",
            "about = \"x\"\n\n[variables.a]\n",
            "",
            "about = 1",
            "uses = [\"a\"]\n",
            "uses = [\n  \"a\", # one\n  \"b\",\n]\n",
            "uses = [\n\t\"a\",\n\t\"b\" # last\n]\r\n",
            "uses = ['a', 'b' ]\n",
        ] {
            let with = change(text, &edit(What::Add("\"new\"".to_owned()))).unwrap();
            let tree: toml::Table = toml::from_str(&with).unwrap();
            assert!(tree["uses"].as_array().unwrap().iter().any(|it| it.as_str() == Some("new")), "{with}");
            assert_eq!(change(&with, &edit(What::Take("\"new\"".to_owned()))).unwrap(), text, "{with}");
        }
        let lines = "uses = [\n  \"a\", # one\n  \"b\",\n]\n";
        assert_eq!(change(lines, &edit(What::Take("'a'".to_owned()))).unwrap(), "uses = [\n  \"b\",\n]\n");
    }
}
