//! Reports of tests in the XML form that test runners and build servers share.

use boltboard_core::board::Board;
use boltboard_core::run::{TestOutcome, TestReport};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

/// Writes reports as XML. What cannot stand in XML is left out of what a test said.
pub fn report(board: &Board, reports: &[TestReport]) -> String {
    let mut suite = TestSuite::new(board.tree.name.as_str());
    for report in reports {
        let status = match &report.outcome {
            TestOutcome::Passed => TestCaseStatus::success(),
            TestOutcome::Failed(why) => {
                let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                status.set_message(why.as_str());
                status
            }
            TestOutcome::Unchanged => {
                let mut status = TestCaseStatus::skipped();
                status.set_message("it passed, and nothing that it runs or reads has changed since");
                status
            }
            TestOutcome::NotThere(condition) => {
                let mut status = TestCaseStatus::skipped();
                if let Some(condition) = condition {
                    status.set_message(format!("only while {condition}"));
                }
                status
            }
        };
        let mut case = TestCase::new(board.tests[report.test].name.as_str(), status);
        case.set_time(report.wall).set_classname(board.tree.name.as_str());
        if !report.said.is_empty() {
            case.set_system_out(report.said.as_str());
        }
        suite.add_test_case(case);
    }
    let mut all = Report::new(board.tree.name.as_str());
    all.add_test_suite(suite);
    all.to_string().unwrap_or_default()
}
