use super::*;
use deft_needle_core::pack::Report;
use deft_needle_core::run::Installation;
use schemars::generate::SchemaSettings;
use std::path::Path;

fn schema<T: JsonSchema>() -> Value {
    let settings = SchemaSettings::draft2020_12().for_serialize();
    let mut schema = settings.into_generator().into_root_schema_for::<T>().to_value();
    schema["properties"]["version"] =
        serde_json::json!({ "type": "string", "description": "That of the program." });
    schema
}

/// The files of `docs/json/` say what these types are; `DEFT_NEEDLE_WRITE_DOCS` writes them anew.
#[test]
fn schemas_are_of_these_types() {
    let all = [
        ("error", schema::<Failed<'_>>()),
        ("version", schema::<Version>()),
        ("inspect", schema::<Inspected<'_>>()),
        ("fit", schema::<Fitted<'_>>()),
        ("check-files", schema::<CheckedFiles<'_>>()),
        ("check-trees", schema::<CheckedTrees>()),
        ("check-sheets", schema::<CheckedSheets>()),
        ("plan", schema::<Planned<'_>>()),
        ("install", schema::<Installation>()),
        ("seam", schema::<Seams<'_>>()),
        ("learn", schema::<Learnt>()),
        ("slots", schema::<SlotList<'_>>()),
        ("sheets", schema::<SheetList>()),
        ("sheet", schema::<SheetText<'_>>()),
        ("hear", schema::<Heard>()),
        ("status", schema::<Statuses>()),
        ("restore", schema::<RestoredRoots>()),
        ("rescue", schema::<Rescued<'_>>()),
        ("new", schema::<NewJob<'_>>()),
        ("pack", schema::<Report>()),
        ("proof", schema::<Proven>()),
        ("config", schema::<Settings<'_>>()),
        ("doctor", schema::<Health<'_>>()),
        ("man-all", schema::<Pages>()),
        ("text", schema::<Text<'_>>()),
        #[cfg(feature = "demo")]
        ("demo", schema::<deft_needle_demo::Played>()),
    ];
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/json");
    for (name, schema) in all {
        let path = folder.join(format!("{name}.schema.json"));
        let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
        if std::env::var_os("DEFT_NEEDLE_WRITE_DOCS").is_some() {
            std::fs::create_dir_all(&folder).unwrap();
            std::fs::write(&path, &text).unwrap();
        }
        let there = std::fs::read_to_string(&path).unwrap_or_default();
        assert_eq!(there, text, "{} (DEFT_NEEDLE_WRITE_DOCS writes it)", path.display());
    }
}
