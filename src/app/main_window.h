// The window: skyline on top, the sentence that answers the question, ledger, picture, stage balance, and the
// station in which one works.
#pragma once
#include <QLabel>
#include <QMainWindow>
#include <QProgressBar>
#include <QPushButton>
#include <QSplitter>

#include "app/balance.h"
#include "app/figures.h"
#include "app/ledger.h"
#include "app/picture.h"
#include "app/skyline.h"
#include "app/stations.h"
#include "app/viewer.h"

namespace gc {

class QueueWindow;

class MainWindow : public QMainWindow {
  Q_OBJECT
 public:
  explicit MainWindow(Session& session);
  void go_to(Station s);
  void set_playhead(Frames frame, bool seek);
  Frames playhead() const { return playhead_; }
  /// Goes on with `then` once unsaved changes are saved or given up; asks which, and stays when told so.
  void when_saved(std::function<void()> then);
  /// Goes on with `then` once it is settled what becomes of work that is left when the window closes: as the queue is set,
  /// or as the person says.
  void when_work_is_settled(std::function<void()> then);
  /// For tests: answers the questions instead of asking. A QMessageBox::StandardButton.
  std::function<int()> ask_unsaved;  ///< Save, Discard or Cancel
  std::function<int()> ask_outside;  ///< Save (over it), SaveAll (as another file) or Cancel
  std::function<int()> ask_recover;  ///< Open, Discard or Cancel (later)

 protected:
  void closeEvent(QCloseEvent*) override;

 private:
  void make_layout();
  void make_menus();
  QAction* add(QMenu* menu, const QString& text, const QList<QKeySequence>& keys, std::function<void()> does);
  void open_dialog();
  void save(bool as);
  void refresh_sentence();
  void refresh_title();
  void show_recent(const QStringList& files);
  void changed_outside(const QString& file);
  void offer_recovery(const RecoveryCopy& copy);
  /// A question with these buttons and their words; asks without holding the program up.
  void ask(const char* name, const QString& title, const QString& text,
           const QList<QPair<int, QString>>& buttons, int usual, const std::function<int()>& instead,
           std::function<void(int)> then);
  void choose_segment(const std::string& id);
  void play(bool backwards);
  void play_stretch();
  void start_playing(FrameRange range, bool backwards);
  void step(Frames by);
  void to_cut(int direction);
  void set_mark(bool in);
  void bypass_dearest();
  void show_shortcuts();
  void show_queue();
  void make_view_menu();
  void make_settings_menu(QMenu* menu);
  void set_compare(CompareMode mode);
  void set_coverage(bool on);
  void set_figures(const PlayFigures& figures);
  /// The picture of the playhead is to come; until then what is shown is marked as not yet it.
  void expect_picture(bool state_changed);
  /// How much room each part has at the present station.
  void share_room();
  QString caption(Frames frame) const;

  Session& session_;
  QueueWindow* queue_ = nullptr;
  Skyline* skyline_;
  Ledger* ledger_;
  Picture* picture_;
  Figures* figures_;
  Viewer* viewer_;
  Balance* balance_;
  Stations* stations_;
  QSplitter* left_ = nullptr;
  QSplitter* right_ = nullptr;
  TextBox* sentence_;
  TextBox* work_text_;
  QProgressBar* progress_;
  QPushButton* action_;
  QPushButton* stop_;
  QPushButton* rail_[kStations] = {};
  QMenu* recent_ = nullptr;
  QMenu* view_ = nullptr;
  QAction* undo_ = nullptr;
  QAction* redo_ = nullptr;
  std::vector<std::pair<QString, QString>> shortcuts_;
  Frames playhead_ = 0;
  FrameRange marks_;
  bool every_frame_ = false;
  QAction* loop_action_ = nullptr;
  QAction* every_frame_action_ = nullptr;
  QAction* coverage_ = nullptr;
  QAction* one_to_one_ = nullptr;
  std::string segment_;
  std::pair<int, std::function<void()>> after_saving_;  ///< what goes on once the save of this number is done
  bool may_close_ = false;
};

}  // namespace gc
