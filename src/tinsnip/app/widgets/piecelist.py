"""The pieces of the job: which are shown, which is worked on, and their names."""

from PySide6.QtCore import QEvent, QModelIndex, QSize, Qt, QTimer
from PySide6.QtGui import QColor, QFontMetrics, QIcon, QKeyEvent, QPixmap
from PySide6.QtWidgets import (
    QListWidget,
    QListWidgetItem,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from tinsnip.app.state.session import Session
from tinsnip.app.widgets.fields import TextField, is_enter
from tinsnip.app.widgets.theme import PLAIN, px, tint_of

__all__ = ["PieceList"]

_ROLE = Qt.ItemDataRole.UserRole
_MOST_ROWS, _FEWEST_ROWS = 5, 2


class _Delegate(QStyledItemDelegate):
    """Rows high enough to read what is typed into them."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(60, QFontMetrics(option.font).height() + px(14))

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: QModelIndex) -> QWidget:
        return _NameField(parent)

    def setEditorData(self, editor: QWidget, index: QModelIndex) -> None:
        editor.setText(index.data())
        editor.selectAll()


class _NameField(TextField):
    """The name while it is typed; its letters, Enter and Esc are its own."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__("Name of the piece")
        self.setParent(parent)
        self.setObjectName("rename")

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride:
            event.accept()
            return True
        return super().event(event)


def _swatch(tint: tuple[float, float, float]) -> QIcon:
    """A square of the colour that a piece has in the view."""
    picture = QPixmap(px(14), px(14))
    picture.fill(QColor.fromRgbF(*tint))
    icon = QIcon(picture)
    icon.addPixmap(picture, QIcon.Mode.Selected)  # or the row that is worked on would colour it
    return icon


class PieceList(QListWidget):
    """Click to work on a piece, tick to show it; F2 or Enter renames it, Delete removes it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._filling = False
        self.setObjectName("pieces")
        self.setAccessibleName("Pieces of the job")
        self.setItemDelegate(_Delegate(self))
        self.setToolTip("Tick to show, click to work on. F2, Enter or a double click renames, Delete removes.")
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setEditTriggers(QListWidget.EditTrigger.DoubleClicked | QListWidget.EditTrigger.EditKeyPressed)
        self.itemChanged.connect(self._edited)
        self.currentRowChanged.connect(self._chosen)

    def refresh(self) -> None:
        """Show the job as it is."""
        if self.state() == QListWidget.State.EditingState:
            return  # what is being typed there is not taken away
        job = self.session.job
        self._filling = True
        self.clear()
        for piece in job.pieces:
            item = QListWidgetItem(piece.name)
            flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
            item.setFlags(flags | Qt.ItemFlag.ItemIsEditable | Qt.ItemFlag.ItemIsUserCheckable)
            shown = job.is_visible(piece.id) or piece.id == job.active
            item.setCheckState(Qt.CheckState.Checked if shown else Qt.CheckState.Unchecked)
            item.setData(_ROLE, piece.id)
            item.setIcon(_swatch(PLAIN if piece.id == job.active else tint_of(piece.id)))
            self.addItem(item)
        ids = [piece.id for piece in job.pieces]
        if job.active in ids:
            self.setCurrentRow(ids.index(job.active))
        rows = min(max(self.count(), _FEWEST_ROWS), _MOST_ROWS)
        self.setFixedHeight(rows * (self.fontMetrics().height() + px(14)) + px(4))
        self._filling = False

    def rename_current(self) -> None:
        """Let the current piece's name be typed."""
        is_typed = self.state() == QListWidget.State.EditingState
        if self.currentItem() is not None and self.isVisible() and not is_typed:
            self.setFocus()
            self.editItem(self.currentItem())

    def remove_current(self) -> None:
        """Take the current piece out of the job."""
        if self.currentItem() is not None:
            self.session.remove(self.currentItem().data(_ROLE))

    def _edited(self, item: QListWidgetItem) -> None:
        if self._filling:
            return
        number, session = item.data(_ROLE), self.session
        piece = session.job.present.get(number)
        if piece is None:
            return
        shown = item.checkState() == Qt.CheckState.Checked
        # answered after the list has finished with its own editing
        if item.text() != piece.name:
            text = item.text()
            QTimer.singleShot(0, lambda: session.rename(number, text))
        elif shown != session.job.is_visible(number):
            QTimer.singleShot(0, lambda: session.set_visible(number, shown))

    def _chosen(self, row: int) -> None:
        if not self._filling and row >= 0:
            number = self.item(row).data(_ROLE)
            QTimer.singleShot(0, lambda: self.session.set_active(number))

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ShortcutOverride and self._means(event):
            event.accept()  # these keys are the list's while it has the focus
            return True
        return super().event(event)

    @staticmethod
    def _means(event: QKeyEvent) -> bool:
        return is_enter(event) or event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_F2)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if is_enter(event) or event.key() == Qt.Key.Key_F2:
            self.rename_current()
        elif event.key() == Qt.Key.Key_Delete:
            self.remove_current()
        else:
            super().keyPressEvent(event)
