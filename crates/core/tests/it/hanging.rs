//! Which stages can get values from the settings of a layer.

use crate::ledgers::ledger;

const LEDGER: &str = "format = 1\nname = \"Small\"\n\
     [[group]]\nname = \"inner\"\n\
     [[stage]]\nname = \"dev\"\nclass = \"development\"\n\
     [[stage]]\nname = \"test\"\nclass = \"test\"\ngroups = [\"inner\"]\n\
     [[stage]]\nname = \"late\"\nclass = \"test\"\nfollow = [{ stage = \"test\" }]\n\
     [[stage]]\nname = \"prod\"\nclass = \"production\"\nfollow = [{ stage = \"late\", except = [\"*/*\"] }]\n";

/// What stands in a stage reaches those that follow it, and all where any text names the stage, wherever that stands.
#[test]
fn settings_reach_their_stage_its_followers_and_whoever_names_it() {
    const DESK: &str = "[variables.a]\nrequired = false\n[variables.b]\nrequired = false\n\
                        [tables.t]\ncolumns = [\"k\", \"v\"]\nkey = \"k\"\n";
    let everywhere = None;
    for (more, of_dev, of_test, of_group) in [
        (("stages/dev.toml", ""), Some("dev"), Some("test late prod"), Some("test late prod")),
        (
            ("stages/dev.toml", "[units.desk]\na = \"${b} @test\"\n"),
            Some("dev"),
            Some("test late prod"),
            Some("test late prod"),
        ),
        (
            ("stages/prod.toml", "[units.desk]\na = \"${b@dev}\"\n"),
            everywhere,
            Some("test late prod"),
            Some("test late prod"),
        ),
        (
            ("stages/prod.toml", "[units.desk]\nt.x = { v = \"${b@dev}\" }\n"),
            everywhere,
            Some("test late prod"),
            Some("test late prod"),
        ),
        (
            ("stages/prod.toml", "[units.desk]\na.from = \"file:${b@late}\"\n"),
            Some("dev"),
            everywhere,
            everywhere,
        ),
        (
            ("shared.toml", "[variables.s]\ndefault = \"${u@test}\"\n[variables.u]\ndefault = \"x\"\n"),
            Some("dev"),
            everywhere,
            everywhere,
        ),
    ] {
        let read = ledger(&[("ledger.toml", LEDGER), ("units/desk.toml", DESK), more]);
        let reached = |layer: &str| {
            let id = read.layer_ids().find(|&id| read.layer_name(id).as_str() == layer).unwrap();
            let stages = read.stages_hanging_on([id])?.into_iter();
            Some(stages.map(|id| read.stage(id).name.to_string()).collect::<Vec<_>>().join(" "))
        };
        for (layer, expected) in [("dev", of_dev), ("test", of_test), ("inner", of_group)] {
            assert_eq!(reached(layer).as_deref(), expected, "{layer}: {}", more.1);
        }
    }
}
