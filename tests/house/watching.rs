//! A person at the console finds, plays and goes on; pictures follow one another.

use std::time::Duration;

use mostra_tests::browser::Browser;
use mostra_tests::{PASSWORD, in_a_house, until};
use thirtyfour::By;

/// Waits until a script gives true.
async fn comes_true(browser: &Browser, what: &str, script: &str) {
    for _ in 0..600 {
        let value = browser.page.execute(script, vec![]).await;
        if value.ok().and_then(|v| v.convert().ok()).unwrap_or(false) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{what} never came true: {script}\n{}", browser.text().await);
}

async fn run(browser: &Browser, script: &str) {
    browser.page.execute(script, vec![]).await.unwrap_or_else(|e| panic!("{script}: {e}"));
}

#[test]
fn a_person_finds_plays_and_goes_on_where_they_stopped() {
    in_a_house(|house| {
        let _service = house.begin();
        house.publish("Films");
        house.publish("Pictures");
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/catalogue/0").await;
            browser.sign_in(PASSWORD).await;
            browser.sees("The catalogue offers 15 items").await;
            let field = browser.page.find(By::XPath("//input[@type='search']")).await.unwrap();
            field.send_keys("lamp tour").await.unwrap();
            browser.press("Find").await;
            browser.sees("1 thing found").await;
            let row = By::XPath("//li//button[contains(., 'Lamp-room tour')]");
            browser.page.find(row).await.unwrap().click().await.unwrap();
            let film = "const film = document.querySelector('video');";
            comes_true(&browser, "the film", &format!("{film} return film?.readyState >= 2")).await;
            run(&browser, &format!("{film} film.textTracks[0].mode = 'showing'")).await;
            let cues = format!("{film} return film.textTracks[0].cues?.length > 0");
            comes_true(&browser, "subtitles", &cues).await;
            run(&browser, &format!("{film} film.muted = true; film.currentTime = 12; film.play()")).await;
            let played = format!("{film} return film.currentTime > 12.2");
            comes_true(&browser, "playing", &played).await;
            // Today says so, and no more once it stands still.
            let console = || house.api("GET", "/streams")["console"].as_array().cloned().unwrap();
            until(10, "the player", || (console().len() == 1).then_some(()));
            assert_eq!(console()[0]["title"], "Lamp-room tour");
            assert!(house.mostra(&["stream", "list"]).contains("house plays Lamp-room tour"));
            run(&browser, &format!("{film} film.pause()")).await;
            until(10, "the player to stop", || console().is_empty().then_some(()));
            let position = until(30, "the position", || {
                let found = house.json(&["catalogue", "search", "lamp", "tour"]);
                found["objects"][0]["position"]["position_ms"].as_u64()
            });
            assert!((12_000..20_000).contains(&position), "{position}");
            let told = format!("0:{}", position / 1000);
            // Later, from the catalogue's first page.
            browser.go("/catalogue/0").await;
            browser.sees("Continue").await;
            browser.sees(&format!("stopped at {told}")).await;
            let link = By::XPath("//a[contains(., 'Lamp-room tour')]");
            browser.page.find(link).await.unwrap().click().await.unwrap();
            browser.sees(&format!("Goes on at {told}")).await;
            let there = format!("{film} return film?.currentTime >= 12");
            comes_true(&browser, "the place", &there).await;
            browser.press("Mark as seen").await;
            until(30, "the mark", || {
                let found = house.json(&["catalogue", "search", "lamp", "tour"]);
                (found["objects"][0]["position"]["seen"] == true).then_some(())
            });
            // Pictures one after another, upright; the choice of a grid is kept.
            browser.go("/catalogue/pictures-all").await;
            browser.sees("Storm 10").await;
            browser.press("As a grid").await;
            browser.sees("As a list").await;
            browser.go("/catalogue/pictures-all").await;
            browser.sees("As a list").await;
            // From one to the next, without going back to the list.
            let first = By::XPath("(//button[starts-with(@id, 'object-')])[1]");
            browser.page.find(first).await.unwrap().click().await.unwrap();
            browser.sees("1 of 10 entries").await;
            browser.press("Next ›").await;
            browser.sees("2 of 10 entries").await;
            browser.press("‹ Previous").await;
            browser.sees("1 of 10 entries").await;
            browser.go("/catalogue/pictures-all").await;
            browser.sees("Storm 10").await;
            browser.press("Slideshow").await;
            browser.sees("1 of 10").await;
            browser.press("Next ›").await;
            browser.sees("2 of 10").await;
            let shown = "const all = document.querySelectorAll('[role=dialog] img'); return all[0]?.naturalWidth > 100";
            comes_true(&browser, "a picture", shown).await;
            browser.press("Close").await;
            browser.close().await;
        });
    });
}
