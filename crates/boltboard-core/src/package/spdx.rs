//! A bill of materials: what a package is made of, contains and needs, in SPDX 2.3 (JSON).

use std::path::Path;

use serde_json::{Value, json};

use super::debian::installed_version;
use super::licenses::licensed;
use super::parcel::Parcel;
use crate::plan::PlanInput;

/// What SPDX has for what nobody says.
const UNKNOWN: &str = "NOASSERTION";

/// Writes the bill of a package whose file has this SHA-256.
pub(super) fn bill(parcel: &Parcel, input: &PlanInput<'_>, root: &Path, sha256: &str) -> String {
    let tree = &*input.board.delivered();
    let (name, version) = (&parcel.name, &parcel.version);
    let license = tree.license.as_deref().unwrap_or(UNKNOWN);
    let mut own = package(name, Some(version), license);
    own["supplier"] = json!(tree.maintainer.as_ref().map_or(UNKNOWN.to_string(), |who| format!("Organization: {who}")));
    own["downloadLocation"] = json!(tree.homepage.as_deref().unwrap_or(UNKNOWN));
    own["checksums"] = json!([{ "algorithm": "SHA256", "checksumValue": sha256 }]);
    let mut packages = vec![own];
    let mut relations = vec![relation("SPDXRef-DOCUMENT", "DESCRIBES", &id(name))];
    for (part, license) in licensed(input) {
        let inner = format!("{name}-{}", part.name);
        packages.push(package(&inner, Some(version), license));
        relations.push(relation(&id(name), "CONTAINS", &id(&inner)));
    }
    let status = std::fs::read_to_string(root.join("var/lib/dpkg/status")).unwrap_or_default();
    for owner in parcel.needed.owners() {
        packages.push(package(owner, installed_version(&status, owner).as_deref(), UNKNOWN));
        relations.push(relation(&id(name), "DEPENDS_ON", &id(owner)));
    }
    let bill = json!({
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": format!("{name}-{version}"),
        "documentNamespace": format!("urn:sha256:{sha256}"),
        "creationInfo": {
            "created": input.tools.epoch.iso(),
            "creators": [format!("Tool: boltboard-{}", env!("CARGO_PKG_VERSION"))],
        },
        "packages": packages,
        "relationships": relations,
    });
    serde_json::to_string_pretty(&bill).expect("texts become JSON") + "\n"
}

fn package(name: &str, version: Option<&str>, license: &str) -> Value {
    let mut package = json!({
        "SPDXID": id(name),
        "name": name,
        "downloadLocation": UNKNOWN,
        "filesAnalyzed": false,
        "licenseConcluded": UNKNOWN,
        "licenseDeclared": license,
        "copyrightText": UNKNOWN,
    });
    if let Some(version) = version {
        package["versionInfo"] = json!(version);
    }
    package
}

fn relation(from: &str, kind: &str, to: &str) -> Value {
    json!({ "spdxElementId": from, "relationshipType": kind, "relatedSpdxElement": to })
}

/// An identifier: letters, digits, `.` and `-`.
fn id(name: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' };
    format!("SPDXRef-{}", name.chars().map(plain).collect::<String>())
}
