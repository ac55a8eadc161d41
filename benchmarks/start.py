"""Start the demo window as the command does, and print the seconds from process start until it is usable."""

import time

_STARTED = time.perf_counter()


def main() -> None:
    """Open, draw once, and print the time."""
    from PySide6.QtWidgets import QApplication

    from humble_loop.demo import demo_site
    from humble_loop.desk.session import Session
    from humble_loop.desk.settings import unkept_settings
    from humble_loop.desk.theme import font, load_fonts
    from humble_loop.desk.window import MainWindow
    from humble_loop.lines.line import ThingId

    app = QApplication([])
    load_fonts()
    app.setFont(font(13))
    session = Session()
    session.take(demo_site())
    window = MainWindow(session, unkept_settings())
    window.show()
    window.fit()
    session.choose(ThingId("street", "kiln-court"))
    app.processEvents()
    window.repaint()
    app.processEvents()
    print(time.perf_counter() - _STARTED)
    session.take(session.site)
    window.close()


if __name__ == "__main__":
    main()
