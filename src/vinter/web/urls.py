"""Addresses, in the order of the work."""

from django.contrib.auth.views import LogoutView
from django.urls import path

from vinter.web.accounts import views as accounts
from vinter.web.field import views as field
from vinter.web.finish import views as finish
from vinter.web.gear import views as gear
from vinter.web.jobs import views as jobs
from vinter.web.ledger import views as ledger
from vinter.web.nights import views as nights
from vinter.web.shots import views as shots
from vinter.web.sites import views as sites
from vinter.web.stacks import views as stacks
from vinter.web.takes import views as takes

urlpatterns = [
    path("", nights.home, name="home"),
    path("sign-in/", accounts.SignIn.as_view(), name="sign-in"),
    path("sign-in/demo/", accounts.enter_demo, name="enter-demo"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
    path("gear/", gear.phones, name="gear"),
    path("sites/", sites.sites, name="sites"),
    path("sites/new/", sites.edit, name="site-new"),
    path("sites/<int:pk>/", sites.edit, name="site"),
    path("night/", nights.next_night, name="next-night"),
    path("season/", nights.first_season, name="first-season"),
    path("sites/<int:pk>/season/<int:year>/", nights.season_sheet, name="season"),
    path("sites/<int:pk>/season/<int:year>.png", nights.season_picture, name="season-picture"),
    path("sites/<int:pk>/night/", nights.go_to_night, name="go-to-night"),
    path("sites/<int:pk>/night/<str:day>/", nights.night, name="night"),
    path("sites/<int:pk>/night/<str:day>/calendar.ics", nights.night_calendar, name="night-calendar"),
    path("shots/", shots.shots, name="shots"),
    path("sites/<int:pk>/shots/new/", shots.new, name="shot-new"),
    path("shots/<int:pk>/", shots.shot, name="shot"),
    path("shots/<int:pk>/delete/", shots.delete, name="shot-delete"),
    path("shots/<int:pk>/lesson/", shots.lesson, name="lesson"),
    path("field/", field.cards, name="cards"),
    path("field/<int:pk>/", field.card, name="card"),
    path("field/<int:pk>/card.html", field.card_file, name="card-file"),
    path("takes/", takes.takes, name="takes"),
    path("takes/new/", takes.new_upload, name="take-upload"),
    path("shots/<int:pk>/shoot/", takes.shoot, name="shoot"),
    path("takes/<int:pk>/", takes.take, name="take"),
    path("takes/<int:pk>/upload/", takes.upload, name="upload"),
    path("takes/<int:pk>/measure/", takes.measure, name="measure"),
    path("frames/<int:pk>/decide/", takes.decide, name="decide"),
    path("frames/<int:pk>/<str:size>.jpg", takes.look, name="look"),
    path("stacks/", stacks.stacks, name="stacks"),
    path("takes/<int:pk>/stack/", stacks.new, name="stack-new"),
    path("stacks/<int:pk>/", stacks.stack, name="stack"),
    path("stacks/<int:pk>/again/", stacks.again, name="stack-again"),
    path("stacks/<int:pk>/<str:which>/", stacks.file, name="stack-file"),
    path("finish/", finish.finishes, name="finishes"),
    path("stacks/<int:pk>/finish/new", finish.new, name="finish-new"),
    path("finish/<int:pk>/", finish.finish, name="finish"),
    path("finish/<int:pk>/draw/", finish.draw, name="draw"),
    path("finish/<int:pk>/save/", finish.save, name="finish-save"),
    path("finish/<int:pk>/recipe.json", finish.recipe_file, name="recipe-file"),
    path("finish/<int:pk>/export/", finish.export, name="export"),
    path("exports/<int:pk>/", finish.download, name="download"),
    path("exports/<int:pk>/small/", finish.download, {"which": "small"}, name="download-small"),
    path("ledger/", ledger.ledger, name="ledger"),
    path("ledger/ledger.csv", ledger.ledger_csv, name="ledger-csv"),
    path("jobs/<int:pk>/", jobs.status, name="job"),
    path("jobs/<int:pk>/cancel/", jobs.cancel, name="job-cancel"),
]
