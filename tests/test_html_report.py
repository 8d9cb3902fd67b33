"""The HTML report, read as its reader reads it: in a browser, from a file, with keys and clicks."""

from __future__ import annotations

import pytest

from browser_suites import needs, pages, suite
from conftest import Folder
from reader import browser_to_read, reader

__all__ = ["browser_to_read", "pages", "reader", "suite"]  # fixtures
pytestmark = needs("chromium")
HOSTILE = "<img src=x onerror=\"document.title='taken'\"></script><script>document.title='taken'"
SUITE = f"""
    import unittest
    from pathlib import Path

    HOSTILE = {HOSTILE!r}
    TRIED = Path(__file__).with_name("tried")


    class Fees(unittest.TestCase):
        def test_first(self):
            raise ValueError("no such berth at 0x7f31")

        def test_second(self):
            raise ValueError("no such berth at 0x80aa")

        def test_receipt(self):
            print(HOSTILE, "\\x1b[31mred\\x1b[0m \\x07")
            self.assertEqual("one\\ntwo", "one\\n" + HOSTILE)

        def test_second_try(self):
            if not TRIED.exists():
                TRIED.touch()
                self.fail("the tide was late")

        @unittest.skip("the board is asleep")
        def test_left(self):
            pass

        # tags: smoke, owner=quay
        def test_good(self):
            pass
"""


@pytest.fixture(scope="module")
def report(tmp_path_factory):
    """A report of a run with all that a report has to tell."""
    folder = Folder(tmp_path_factory.mktemp("reported"))
    folder.write(test_fees_py=SUITE)
    many = "\n".join(f"def test_{number}(): pass" for number in range(150))
    folder.write(tests__test_berths_py=many)
    run = folder.run("--retries", "1", "--jobs", "1", "--report", "html=out/report.html")
    assert run.code == 1
    return folder.path / "out" / "report.html"


def test_a_reader_finds_what_failed(report, reader):
    reader.open(report)
    assert reader.text("header h1") == "3 of 156 tests failed"
    assert "1\u00a0flaky" in reader.text(".chips").replace(" ", "\u00a0")
    cards = reader.texts("#failures .card")
    assert len(cards) == 2
    assert cards[0].startswith("! 2 tests with the same message")
    assert "the tide was late" in reader.text("#flaky")
    assert "1 test skipped: the board is asleep" in reader.text("#left-out")
    assert "worker 1: 160 attempts" in reader.text("#workers")
    reader.click(".card h3 a, .card a.test")
    assert reader.text("#test h1").endswith("Fees / test_first")
    assert "ValueError: no such berth" in reader.text("#test .message")
    assert "raise ValueError" in reader.text("#test figure.code .here")
    assert reader.text("#test .command code") == "wolfbane run 'test_fees.py#Fees / test_first'"
    reader.press("n")
    assert reader.text("#test h1").endswith("Fees / test_receipt")
    reader.press("Escape")
    assert reader.js("return document.getElementById('test').hidden") is True
    assert reader.complaints() == []


def test_search_and_filters_narrow_and_are_kept_in_the_address(report, reader):
    reader.open(report)
    assert reader.text("#found").startswith("156 of 156 tests")
    assert len(reader.texts("#list li")) < 156
    reader.press("/", *"berths test_14")
    assert reader.text("#found").startswith("11 of 156 tests")
    reader.press("Escape")
    reader.click("#outcomes [data-outcome=flaky]")
    assert [line.split("\n")[0] for line in reader.texts("#list .name")] == [
        "Fees / test_second_try"
    ]
    assert reader.js("return location.hash") == "#outcome=flaky"
    reader.js("document.querySelector('select[name=owner]').value = 'quay'")
    reader.click("#outcomes [data-outcome=flaky]")
    reader.open(report, "#owner=quay&tag=smoke")
    reader.js("location.reload()")
    assert reader.texts("#list .name") == ["Fees / test_good"]
    assert reader.js("return document.querySelector('select[name=tag]').value") == "smoke"
    reader.open(report, "#q=nowhere")
    assert reader.text("#found") == "None of 156 tests matches these filters."
    reader.press("f")
    reader.press("j", "Enter")
    assert reader.text("#test h1").endswith("Fees / test_first")


def test_nothing_that_a_test_says_is_markup(report, reader):
    reader.open(report, "#test=test_fees.py%23Fees%20%2F%20test_receipt")
    assert HOSTILE in reader.text("#test .message")
    assert f"{HOSTILE} red \\x07" in reader.text("#test pre.long")
    assert reader.js("return document.title").startswith("3 of 156")
    assert reader.js("return document.querySelectorAll('#test img, [onerror]').length") == 0
    reader.js("document.body.append(Object.assign(document.createElement('script'), {text: '1'}))")
    [refused] = reader.complaints()
    assert "Content Security Policy" in refused


@pytest.mark.parametrize("dark", [False, True])
@pytest.mark.parametrize("size", [(1280, 800), (390, 844)])
def test_it_fits_a_desk_and_a_phone_by_day_and_by_night(report, reader, dark, size):
    reader.like(dark=dark, size=size)
    for fragment in ("#", "#outcome=errored", "#test=test_fees.py%23Fees%20%2F%20test_receipt"):
        reader.open(report, fragment)
        assert reader.js("return innerWidth") == size[0]
        assert reader.js("return document.documentElement.scrollWidth") <= size[0]
    shade = reader.js("return getComputedStyle(document.body).backgroundColor")
    assert (shade == "rgb(16, 24, 28)") is dark


def test_evidence_is_in_the_report(suite, reader):
    folder = suite(
        """
def test_wrong(self):
    browser = Browser()
    browser.open("quay")
    print("the gauge", os.environ["PAGES"])
    self.assertEqual(browser("GET", "/title"), "Harbour")
def test_right(self):
    Browser().open("quay")
""",
        more="retries = 1",
    )
    assert folder.run("--report", "html=report.html").code == 1
    reader.open(folder.path / "report.html")
    assert reader.texts("#browsers tbody tr")[0].startswith(
        "pages/test_quay.py#Quay / test_wrong\t✗ failed"
    )
    reader.click("#browsers tbody td a")
    assert reader.js("return document.querySelector('#test img').naturalWidth") > 300
    assert "earlier attempts" in reader.text("#test").lower()
    assert len(reader.texts("#test .replay")) == 2
    reader.click("#test details summary")
    assert "Saltmarsh quay" in reader.text("#test details pre")
    opened = folder.call("open", "--no-browser")
    assert opened.code == 0
    assert opened.out.strip().endswith("report.html")


def test_a_scenario_is_told_with_its_descriptions_tables_texts_and_attachments(folder, reader):
    folder.file(
        "rules/a.feature",
        """
        Feature: Berths
          What a boat has to know.
          Rule: Papers
            They are <b>green</b>.
            Scenario: A list
              Given these boats
                | name | length |
                | Alda | 8      |
              And this note
                \"\"\"
                first
                second
                \"\"\"
    """,
    )
    folder.file(
        "rules/steps/s.py",
        """
        from wolfbane.steps import attach, given
        @given("these boats")
        def boats(table): attach("<svg xmlns='http://www.w3.org/2000/svg'/>", "plan.svg")
        @given("this note")
        def note(text): attach(bytes(range(256)), "raw.bin")
    """,
    )
    assert folder.run("--report", "html=out.html").code == 0
    reader.open(folder.path / "out.html", "#test=rules/a.feature%23Papers%20%2F%20A%20list")
    assert reader.texts("#test .about") == ["Feature: Berths", "Rule: Papers"]
    assert reader.texts("#test .description")[1] == "They are <b>green</b>."
    assert reader.texts("#test table.cells td") == ["name", "length", "Alda", "8"]
    assert reader.text("#test .parts pre") == "first\nsecond"
    first, second = reader.texts("#test .parts > ul > li")
    assert "plan.svg" in first and "raw.bin" in second and "256 B" in second
    assert reader.js("return document.querySelectorAll('#test .parts img').length") == 1
    assert reader.complaints() == []


def test_long_outputs_share_the_room_there_is(folder):
    folder.file(
        "test_long.py",
        """
        import unittest
        class Long(unittest.TestCase):
            def say(self):
                print("the tide is in; " * 3500)
                self.fail("low water")
        for number in range(140):
            setattr(Long, f"test_{number}", lambda self: self.say())
        class Short(unittest.TestCase):
            def test_short(self):
                print("all of it is here")
                self.fail()
        """,
    )
    folder.run("--report", "html=out.html", "--quiet")
    page = (folder.path / "out.html").read_text()
    assert 5_000_000 < len(page) < 8_000_000
    assert page.count("characters omitted; 'wolfbane show --verbose' prints all") == 140
    assert "all of it is here" in page
