//! docs/recipes.md shows the code that the other tests run.

use std::fs;
use std::path::Path;

#[test]
fn every_block_of_the_document_is_in_the_file_it_links_to() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let document = fs::read_to_string(root.join("docs/recipes.md")).unwrap();
    let recipes: Vec<&str> = document.split("\n## ").skip(1).collect();
    assert_eq!(recipes.len(), 10);
    for recipe in recipes {
        let link = recipe.split("](../").nth(1).unwrap().split(')').next().unwrap();
        let code = fs::read_to_string(root.join(link)).unwrap();
        let block = recipe.split("```").nth(1).unwrap();
        let (_, block) = block.split_once('\n').unwrap();
        assert!(code.contains(block), "{link} lacks:\n{block}");
    }
}
