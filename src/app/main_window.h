// The window: skyline on top, the sentence that answers the question, ledger, picture, stage balance, and the
// station in which one works.
#pragma once
#include <QLabel>
#include <QMainWindow>
#include <QProgressBar>
#include <QPushButton>
#include <QSplitter>

#include "app/balance.h"
#include "app/ledger.h"
#include "app/picture.h"
#include "app/skyline.h"
#include "app/stations.h"

namespace gc {

class MainWindow : public QMainWindow {
  Q_OBJECT
 public:
  explicit MainWindow(Session& session);
  void go_to(Station s);
  void set_playhead(Frames frame, bool seek);
  Frames playhead() const { return playhead_; }
  /// Asks before unsaved changes are lost: true when it may go on.
  bool may_discard();
  /// For tests: answers the question about unsaved changes instead of asking.
  std::function<int()> ask_unsaved;

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
  void refresh_recent();
  void choose_segment(const std::string& id);
  void play(bool backwards);
  void play_stretch();
  void start_playing(FrameRange range, bool backwards);
  void step(Frames by);
  void to_cut(int direction);
  void set_mark(bool in);
  void bypass_dearest();
  void show_shortcuts();
  void make_view_menu();
  void make_settings_menu(QMenu* menu);
  void set_compare(CompareMode mode);
  void set_coverage(bool on);
  QString caption(Frames frame) const;

  Session& session_;
  Skyline* skyline_;
  Ledger* ledger_;
  Picture* picture_;
  Balance* balance_;
  Stations* stations_;
  QSplitter* right_ = nullptr;
  QLabel* sentence_;
  QLabel* work_text_;
  QProgressBar* progress_;
  QPushButton* action_;
  QPushButton* stop_;
  QPushButton* rail_[kStations] = {};
  QMenu* recent_ = nullptr;
  QAction* undo_ = nullptr;
  QAction* redo_ = nullptr;
  std::vector<std::pair<QString, QString>> shortcuts_;
  Frames playhead_ = 0;
  FrameRange marks_;
  bool every_frame_ = false;
  QAction* loop_action_ = nullptr;
  QAction* every_frame_action_ = nullptr;
  QAction* coverage_ = nullptr;
  std::string segment_;
};

}  // namespace gc
