//! The pages for everybody: axe-core finds nothing on any of them, each has a title, and the focus
//! follows whoever goes from page to page.

use mostra_tests::browser::Browser;
use mostra_tests::{PASSWORD, in_a_house, raw, until};

/// Pages with something on them, their titles, and a text by which they are there.
const PAGES: [(&str, &str, &str); 16] = [
    ("/", "Today", "127.0.0.71"),
    ("/folders", "Folders", "Publish a folder"),
    ("/catalogue", "Catalogue", "The catalogue offers"),
    ("/catalogue/video-all", "Catalogue", "Harbour at dawn"),
    ("/catalogue/0?q=zzz", "Catalogue", "No title, artist"),
    ("/devices/1", "Devices", "Reached by"),
    ("/network", "Network", "Kitchen speaker"),
    ("/network/n1", "Network", "What it says of itself"),
    ("/seen-by/1", "Seen by", "this is all it gets"),
    ("/preflight", "Preflight", "Devices reach the house"),
    ("/walkthrough", "Walkthrough", "One device is confirmed."),
    ("/walkthrough/3", "Walkthrough", "Does the arrow point up"),
    ("/handover", "Hand-over", "rule"),
    ("/exposure", "Open to whom", "What a decision protects from"),
    ("/settings", "Settings", "Console in the house"),
    ("/begin", "A new house", "What is this house called?"),
];

async fn look(browser: &Browser, what: &str) {
    let found = browser.accessibility().await;
    assert!(found.is_empty(), "{what}: {found:#?}");
}

#[test]
fn axe_finds_nothing_on_any_page_and_each_has_its_title() {
    in_a_house(|house| {
        let _service = house.begin();
        house.mostra(&["house", "name", "Pellworth Light"]);
        for folder in ["Films", "Sound", "Pictures"] {
            house.publish(folder);
        }
        let _speaker = house.stand_ins(&["kitchen-speaker"]);
        for path in ["/about/device.xml", "/media/none"] {
            raw::ask("127.0.0.71", "GET", path, "User-Agent: Skerrin/2\r\n");
            raw::ask("127.0.0.72", "GET", path, "");
        }
        // One that is in the middle of a walkthrough.
        const WALKED: &str = "127.0.0.73";
        house.meet(WALKED);
        house.mostra(&["device", "admit", WALKED, "--kinds", "pictures"]);
        house.mostra(&["walkthrough", "start", WALKED]);
        let pictures = until(30, "the pictures", || {
            let answer = raw::browse(WALKED, "pictures-all");
            answer.text().contains("Spring tide").then_some(answer)
        });
        raw::ask(WALKED, "GET", &raw::media_path(&pictures, "Spring tide"), "");
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/").await;
            browser.sees("Sign in to the house").await;
            look(&browser, "signing in").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("wait at the door").await;
            for (width, height) in [(1280, 800), (390, 844)] {
                browser.size(width, height).await;
                for (path, title, text) in PAGES {
                    browser.go(path).await;
                    browser.sees(text).await;
                    look(&browser, path).await;
                    assert_eq!(browser.title().await, format!("{title} · Mostra"));
                }
            }
            browser.size(1280, 800).await;
            browser.go("/devices/1").await;
            browser.press("Show what it did and was refused").await;
            browser.sees("what proves a step").await;
            look(&browser, "sightings").await;
            browser.press("Show recorded conversations").await;
            browser.press("Record its conversation").await;
            browser.sees("Recording until").await;
            browser.press("Read").await;
            browser.sees("Nothing was said yet").await;
            look(&browser, "a recording").await;
            browser.press("Which one is asking?").await;
            browser.sees("Asking now").await;
            look(&browser, "who is asking").await;
            browser.go("/network/n1").await;
            browser.press("ConnectionManager (says which formats it takes or sends)").await;
            browser.sees("Action").await;
            browser.press("Watch its state").await;
            browser.sees("CurrentConnectionIDs").await;
            look(&browser, "a service").await;
            browser.go("/devices/1").await;
            browser.press("Show the decisions on it").await;
            browser.sees("Nobody decided on it yet").await;
            browser.press("Decide on several…").await;
            browser.sees("Tick the devices").await;
            look(&browser, "several devices").await;
            browser.press("Choose…").await;
            browser.sees("What may").await;
            look(&browser, "a dialog").await;
            browser.press("Back").await;
            browser.press("Forget this device").await;
            browser.sees("Its name, standing and proof go").await;
            look(&browser, "a question").await;
            browser.press("Cancel").await;

            // By a link the focus goes to the page's beginning; by a full load it does not.
            let inside = "return document.querySelector('main').contains(document.activeElement)";
            let is_inside = || async {
                browser.page.execute(inside, vec![]).await.unwrap().convert::<bool>().unwrap()
            };
            browser.go("/devices").await;
            browser.sees("127.0.0.72").await;
            assert!(!is_inside().await);
            let link = thirtyfour::By::LinkText("Folders");
            browser.page.find(link).await.unwrap().click().await.unwrap();
            browser.sees("Publish a folder").await;
            assert!(is_inside().await);
            browser.close().await;
        });
    });
}
