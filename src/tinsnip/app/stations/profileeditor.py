"""The page on which a profile is made or changed."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QFrame, QLabel, QScrollArea, QVBoxLayout, QWidget

from tinsnip.app.widgets.form import Form
from tinsnip.app.widgets.theme import polish_again, px
from tinsnip.errors import BadInput
from tinsnip.job import Profile, profiles, remove_profile, save_profile

__all__ = ["ProfileEditor"]


class ProfileEditor(QDialog):
    """Every field of a profile; what has no tick is not asked for.

    Attributes
    ----------
    result_name : str
        The name it was kept under; empty where it was removed or left.
    """

    def __init__(self, profile: Profile, parent: QWidget) -> None:
        super().__init__(parent)
        self.before = profile.name if profile.name in profiles() else ""
        self.result_name = ""
        self.setWindowTitle("Profile")
        self.setObjectName("sheet")
        self.setMinimumWidth(px(460))
        box = QVBoxLayout(self)
        box.setContentsMargins(px(24), px(20), px(24), px(20))
        title = QLabel("What a part has to keep to")
        title.setObjectName("title")
        box.addWidget(title)
        about = QLabel("What is ticked is asked for, on top of what every solid has to be.")
        about.setObjectName("muted")
        about.setWordWrap(True)
        box.addWidget(about)
        self.form = Form(profile)
        self.form.setObjectName("sheetbody")
        self.form.layout().setContentsMargins(0, 0, px(12), 0)
        scroll = QScrollArea()
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.form)
        scroll.viewport().setAutoFillBackground(False)
        scroll.setMinimumHeight(min(self.form.sizeHint().height(), px(520)))
        box.addWidget(scroll, 1)
        self.refusal = QLabel()
        self.refusal.setObjectName("warning")
        self.refusal.setWordWrap(True)
        self.refusal.hide()
        box.addWidget(self.refusal)
        buttons = QDialogButtonBox()
        self.save = buttons.addButton("Keep", QDialogButtonBox.ButtonRole.AcceptRole)
        self.save.setDefault(True)
        self.cancel = buttons.addButton("Leave it", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self._keep)
        buttons.rejected.connect(self.reject)
        if self.before:
            self.remove = buttons.addButton("Remove this profile", QDialogButtonBox.ButtonRole.ActionRole)
            self.remove.setAutoDefault(False)
            self.remove.clicked.connect(self._remove)
        box.addWidget(buttons)
        polish_again(self)

    def _keep(self) -> None:
        try:
            profile = self.form.action()
            others = set(profiles()) - {self.before}
            if profile.name in others:
                raise BadInput(f"there is a profile {profile.name} already; give this one another name")
            save_profile(profile)
            if self.before and self.before != profile.name:
                remove_profile(self.before)
        except (BadInput, ValueError) as error:
            self._refuse(str(error))
            return
        self.result_name = profile.name
        self.accept()

    def _remove(self) -> None:
        try:
            remove_profile(self.before)
        except BadInput as error:
            self._refuse(str(error))
            return
        self.accept()

    def _refuse(self, text: str) -> None:
        self.refusal.setText(text)
        self.refusal.show()
