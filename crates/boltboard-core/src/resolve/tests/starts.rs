//! Starting points against an oracle: all that is wanted, as far as it holds together.

use proptest::prelude::*;

use crate::board::{Linkage, Switch, Value};
use crate::logic::encode;
use crate::profile::Choices;
use crate::resolve::{StartingPoint, resolved, start};
use crate::testing::{TestTree, choices, facts};

/// A board of switches and modules with these requirements and conflicts between them.
fn board(rules: &[(usize, usize, bool)]) -> String {
    let mut text = String::new();
    for at in 0..8 {
        let kind = if at % 3 == 0 { "module" } else { "switch" };
        let of = |wanted: bool| -> Vec<String> {
            let own =
                rules.iter().filter(|(from, to, requires)| *from % 8 == at && *to % 8 < at && *requires == wanted);
            own.map(|(_, to, _)| format!("\"o{}\"", to % 8)).collect()
        };
        text += &format!(
            "[option.o{at}]\nkind = \"{kind}\"\nrequires = [{}]\nconflicts = [{}]\n",
            of(true).join(", "),
            of(false).join(", ")
        );
        if at % 4 == 1 {
            text += "default = \"on\"\n";
        }
    }
    text
}

proptest! {
    #![proptest_config(proptest::test_runner::Config::with_cases(60))]

    /// What is found resolves, and nothing that was let go could be chosen as well.
    #[test]
    fn a_start_holds_and_nothing_more_could_be_had(
        rules in proptest::collection::vec((0_usize..8, 0_usize..8, proptest::bool::ANY), 0..14), which in 0_usize..4,
    ) {
        let board = TestTree::board_only(&board(&rules));
        let logic = encode(&board);
        let none = facts(&[]);
        let from = [StartingPoint::Smallest, StartingPoint::Everything, StartingPoint::AllLoadable, StartingPoint::Random(5)][which].clone();
        let started = start(&board, &logic, &from, &Choices::default(), &none).expect("nothing is chosen before");
        let said = |chosen: &[(crate::board::OptionId, Value)]| -> String {
            chosen.iter().map(|(option, value)| format!("{}={value}", board.options[*option].name)).collect::<Vec<_>>().join(" ")
        };
        let text = said(&started.chosen);
        let values = resolved(&board, &logic, &choices(&board, &text), &none);
        prop_assert!(values.is_some(), "{}", text);
        for option in &started.let_go {
            let wanted = match (&from, &board.options[*option].kind) {
                (StartingPoint::Everything, crate::board::Kind::Switch) | (StartingPoint::AllLoadable, crate::board::Kind::Switch) => Value::Switch(Switch::On),
                (StartingPoint::Everything, _) => Value::Module(Linkage::Builtin),
                (StartingPoint::AllLoadable, _) => Value::Module(Linkage::Loadable),
                (StartingPoint::Smallest, crate::board::Kind::Switch) => Value::Switch(Switch::Off),
                (StartingPoint::Smallest, _) => Value::Module(Linkage::Off),
                _ => continue,
            };
            let mut more = started.chosen.clone();
            more.push((*option, wanted));
            let more = said(&more);
            prop_assert!(resolved(&board, &logic, &choices(&board, &more), &none).is_none(), "{} could be had", more);
        }
        let again = start(&board, &logic, &from, &Choices::default(), &none).expect("as before");
        prop_assert_eq!(said(&again.chosen), text);
    }
}
