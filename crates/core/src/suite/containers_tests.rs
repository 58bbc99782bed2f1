//! What a suite file may say of an image, and what is believed of one.

use super::{
    SuiteFile,
    container::{Container, From, Image, check_reference, name_for},
};
use crate::time::Bytes;

fn parsed(lines: &str) -> Result<Container, String> {
    let text = format!(
        "suite = \"fares\"\n[tests]\nlist = [\"./t\"]\nrun = [\"./t\", \"{{names}}\"]\nresults = \"tap\"\n[facets]\nscreen = [\"phone\", \"desk\"]\n[container]\n{lines}\n"
    );
    let file = SuiteFile::parse("kesmo.toml", &text).map_err(|e| e.to_string())?;
    Ok(file.container.expect("it has a container"))
}

#[test]
fn a_container_is_read_with_what_is_usual_for_the_rest() {
    let plain = parsed("image = \"localhost/quay-gate:12\"").unwrap();
    assert_eq!(plain, Container::of(From::Image("localhost/quay-gate:12".into())));
    let whole =
        parsed("build = \"images/Containerfile\"\nnetwork = \"none\"\nmemory = \"2 GiB\"\ncpus = 0.5\ninit = true")
            .unwrap();
    assert_eq!(whole.from, From::Build("images/Containerfile".into()));
    assert_eq!(
        (whole.network.as_str(), whole.memory, whole.cpus, whole.init),
        ("none", Some(Bytes(2 << 30)), Some(500), true)
    );
    assert_eq!(parsed("image = \"a\"\ncpus = 2").unwrap().cpus, Some(2000));
}

#[test]
fn what_cannot_be_a_container_says_why_and_where() {
    for (lines, wanted) in [
        ("", "line 8: [container] has no \"image\""),
        ("image = \"a\"\nbuild = \"b\"", "has both \"image\" and \"build\""),
        (
            "image = \"Localhost/x\"",
            "line 9: \"image\" in [container]: \"Localhost/x\" is not the name of an image: only its tag",
        ),
        ("image = \"a b\"", "is not the name of an image"),
        ("image = \"-rm\"", "is not the name of an image"),
        ("image = 3", "must be a string, and is an integer"),
        ("image = \"a:{scren}\"", "{scren} is not a facet of this suite; did you mean \"screen\"?"),
        ("image = \"a:{screen\"", "a brace without its other half"),
        ("build = \"../Containerfile\"", "is not a file of the suite"),
        ("build = \"/etc/x\"", "is not a file of the suite"),
        ("image = \"a\"\nnetwork = \"--privileged\"", "is not the name of a network"),
        ("image = \"a\"\nmemory = \"1 MiB\"", "no container starts with less than 6.0 MiB"),
        ("image = \"a\"\ncpus = 0", "write a number from 0.01 to 1024"),
        ("image = \"a\"\nmemorry = \"1 GiB\"", "did you mean \"memory\"?"),
    ] {
        let said = parsed(lines).unwrap_err();
        assert!(said.contains(wanted), "{lines}: {said}");
    }
}

#[test]
fn a_name_takes_the_variants_values_in() {
    let image = parsed("image = \"localhost/gate-{screen}:{screen}\"").unwrap();
    let From::Image(name) = image.from else { panic!("an image") };
    assert_eq!(name_for(&name, &[("screen".into(), "phone".into())]), "localhost/gate-phone:phone");
}

#[test]
fn what_is_said_of_an_image_is_checked() {
    let image = |name: &str, digest: &str| Image { name: name.into(), digest: digest.into(), at: None };
    let digest = format!("sha256:{}", "a1".repeat(32));
    assert_eq!(image("a:1", &digest).check(), Ok(()));
    assert_eq!(image("a:1", &digest).to_string(), "a:1 (a1a1a1a1a1a1)");
    assert_eq!(image("images/Containerfile", &digest).check(), Ok(()));
    assert!(image("a:1", "sha256:..").check().is_err() && image("a;b", &digest).check().is_err());
    let at = |name: &str, repository: &str| {
        let at = Some(format!("{repository}@{digest}"));
        Image { at, ..image(name, &digest) }.check().is_ok()
    };
    assert!(at("r.example:5000/quay/gate:12", "r.example:5000/quay/gate") && at("gate", "docker.io/library/gate"));
    assert!(at("gate@sha256:00", "gate") && at("quay/gate", "docker.io/quay/gate"));
    assert!(!at("gate", "evil.example/gate") && !at("r.example/gate:1", "r.example/other"), "another's is not brought");
    assert!(!at("r.example:5000/gate", "r.example") && !at("a", "a\nb"));
    for good in ["registry.example:5000/quay/gate:12-B", "gate", "quay/gate@sha256:00ff"] {
        assert_eq!(check_reference(good), Ok(()), "{good}");
    }
}
