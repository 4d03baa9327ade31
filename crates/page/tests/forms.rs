//! The forms of a page: nothing of a ledger is markup, nothing gets lost, and nothing is reached.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_page::{
    Bars, Block, Cell, Flow, Grid, Head, Lane, Lanes, Page, Row, Section, Table, csv, html, markdown,
};
use cledger_work::shown::Tone;
use proptest::prelude::*;
use sha2::{Digest as _, Sha256};

fn page(texts: &[String]) -> Page {
    let cells: Vec<Cell> =
        texts.iter().map(|text| Cell { note: Some(text.clone()), ..Cell::toned(text, Tone::Bad) }).collect();
    let heads: Vec<String> = texts.to_vec();
    let table = Table {
        title: texts.first().cloned(),
        heads: heads.clone(),
        rows: vec![Row { id: texts.concat(), cells: cells.clone(), differs: true, lacks: true }],
        folded: false,
    };
    let grid = Grid { title: texts.concat(), heads, rows: vec![(texts.concat(), cells.clone())] };
    let bars = Bars {
        title: texts.concat(),
        bars: texts.iter().map(|text| (text.clone(), 3, Tone::Good)).collect(),
    };
    let flow =
        Flow { title: texts.concat(), comes: texts.to_vec(), center: texts.concat(), goes: texts.to_vec() };
    let lane = Lane { name: texts.concat(), events: cells.iter().map(|cell| (0.5, cell.clone())).collect() };
    let lanes = Lanes { title: texts.concat(), lanes: vec![lane], ends: (texts.concat(), texts.concat()) };
    Page {
        head: Head {
            ledger: texts.concat(),
            revision: texts.first().cloned(),
            made: "2026-11-28T10:20:30.5Z".to_owned(),
            by: texts.first().cloned(),
            left_out: texts.to_vec(),
        },
        sections: vec![
            Section {
                id: "one".to_owned(),
                title: texts.concat(),
                blocks: vec![
                    Block::Text(texts.concat(), Tone::Doubtful),
                    Block::Grid(grid),
                    Block::Lanes(lanes),
                    Block::Bars(bars),
                    Block::Flow(flow),
                    Block::Table(table),
                ],
            },
            Section { id: "two".to_owned(), title: "Two".to_owned(), blocks: Vec::new() },
        ],
    }
}

/// What stands between two marks.
fn between<'t>(text: &'t str, from: &str, to: &str) -> &'t str {
    text.split_once(from).unwrap().1.split_once(to).unwrap().0
}

#[test]
fn a_page_lets_in_its_own_style_and_script_alone() {
    let made = html(&page(&["a".to_owned()]));
    let policy = between(&made, "Content-Security-Policy\" content=\"", "\"").replace("&#39;", "'");
    for inside in [between(&made, "<style>", "</style>"), between(&made, "<script>", "</script>")] {
        let hash = STANDARD.encode(Sha256::digest(inside));
        assert!(policy.contains(&format!("'sha256-{hash}'")), "{policy}");
    }
    assert!(policy.starts_with("default-src 'none';"), "{policy}");
    assert!(!made.contains(" src=") && !made.contains("<link") && !made.contains("@import"), "{made}");
    assert!(made.contains("Made 2026-11-28 10:20 UTC") && made.contains("href=\"#one\""), "{made}");
}

#[test]
fn one_table_is_a_file_of_csv_and_more_are_not() {
    let texts = ["a,b", "line\nend", "\"quoted\""].map(str::to_owned);
    let text = csv(&page(&texts)).unwrap();
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    assert_eq!(reader.headers().unwrap().iter().collect::<Vec<_>>(), texts);
    assert_eq!(reader.records().next().unwrap().unwrap().iter().collect::<Vec<_>>(), texts);
    let two = Page { sections: [page(&texts).sections, page(&texts).sections].concat(), ..Page::default() };
    assert_eq!(csv(&two).unwrap_err().tables, 2);
}

proptest! {
    /// Whatever stands in a ledger, it is text in the page: its marks are as many as without it.
    #[test]
    fn nothing_of_a_ledger_is_markup(texts in prop::collection::vec("[a-z<>&\"'/=(){}\\[\\]|`*_#!$~. \u{0}-\u{1f}é本]{0,40}", 1..4)) {
        let plain = page(&texts.iter().map(|text| "x".repeat(text.len().min(1))).collect::<Vec<_>>());
        let (made, bare) = (html(&page(&texts)), html(&plain));
        let count = |text: &str, mark: &str| text.matches(mark).count();
        for mark in ["<script", "<style", "<a ", "<td", "<tr", "<svg", "<img", " onerror", "<iframe"] {
            let known = count(&bare, mark);
            let found = count(&made, mark);
            prop_assert!(found <= known, "{mark}: {found} instead of {known}");
        }
        let text = markdown(&page(&texts));
        let rows: Vec<&str> = text.lines().filter(|line| line.starts_with('|')).collect();
        prop_assert_eq!(rows.len(), 3);
        for row in rows {
            let bars = row.replace("\\\\", "").replace("\\|", "").matches('|').count();
            prop_assert_eq!(bars, texts.len() + 1, "{}", row);
        }
        prop_assert!(!text.replace("\\<", "").contains('<'), "{text}");
    }
}

#[test]
fn a_folder_has_a_page_for_each_table_with_a_title() {
    let names = |page: Page| page.split().into_iter().map(|(name, _)| name).collect::<Vec<_>>();
    assert_eq!(names(page(&["desk".to_owned()])), ["index", "desk"]);
    // A unit may be called like the page that leads to the others.
    assert_eq!(names(page(&["index".to_owned()])), ["index", "_index"]);
    let both = Page {
        sections: [page(&["desk".to_owned()]).sections, page(&["desk".to_owned()]).sections].concat(),
        ..Page::default()
    };
    let (_, desk) = both.split().pop().unwrap();
    assert_eq!(desk.sections.len(), 2);
}
