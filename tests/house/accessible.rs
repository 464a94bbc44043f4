//! The pages for everybody: axe-core finds nothing on any of them, each has a title, and the focus
//! follows whoever goes from page to page.

use mostra_tests::browser::Browser;
use mostra_tests::{PASSWORD, in_a_house, raw};

/// Pages with something on them, their titles, and a text by which they are there.
const PAGES: [(&str, &str, &str); 8] = [
    ("/", "Today", "127.0.0.71"),
    ("/folders", "Folders", "Publish a folder"),
    ("/catalogue", "Catalogue", "The catalogue offers"),
    ("/catalogue/video-all", "Catalogue", "Harbour at dawn"),
    ("/catalogue/0?q=zzz", "Catalogue", "No title, artist"),
    ("/devices/1", "Devices", "Reached by"),
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
        raw::ask("127.0.0.71", "GET", "/about/device.xml", "User-Agent: Skerrin/2\r\n");
        raw::ask("127.0.0.72", "GET", "/about/device.xml", "");
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/").await;
            browser.sees("Sign in to the house").await;
            look(&browser, "signing in").await;
            browser.fill("Password", PASSWORD).await;
            browser.press("Sign in").await;
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
            browser.sees("Only what failed").await;
            look(&browser, "sightings").await;
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
