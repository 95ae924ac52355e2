"""Addresses, in the order of the work."""

from django.contrib.auth.views import LogoutView
from django.urls import path

from vinter.web.accounts import views as accounts
from vinter.web.field import views as field
from vinter.web.finish import views as finish
from vinter.web.forecast import views as forecasts
from vinter.web.gear import views as gear
from vinter.web.jobs import views as jobs
from vinter.web.ledger import views as ledger
from vinter.web.nights import views as nights
from vinter.web.rehearse import views as rehearse
from vinter.web.shots import station as stations
from vinter.web.shots import views as shots
from vinter.web.sites import horizon as horizons
from vinter.web.sites import map as site_map
from vinter.web.sites import views as sites
from vinter.web.skyline import stand as stands
from vinter.web.skyline import views as skylines
from vinter.web.stacks import compare as comparing
from vinter.web.stacks import painting
from vinter.web.stacks import views as stacks
from vinter.web.takes import views as takes

urlpatterns = [
    path("", nights.home, name="home"),
    path("sign-in/", accounts.SignIn.as_view(), name="sign-in"),
    path("sign-in/demo/", accounts.enter_demo, name="enter-demo"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
    path("gear/", gear.phones, name="gear"),
    path("gear/add/", gear.add, name="phone-add"),
    path("gear/<int:pk>/", gear.phone, name="phone"),
    path("gear/<int:pk>.json", gear.carry, name="phone-carry"),
    path("gear/<int:pk>/delete/", gear.delete, name="phone-delete"),
    path("gear/<int:pk>/lens/", gear.lens, name="lens-new"),
    path("gear/<int:pk>/lens/<str:name>/", gear.lens, name="lens"),
    path("gear/<int:pk>/lens/<str:name>/measure/", gear.calibrate, name="calibrate"),
    path("gear/<int:pk>/lens/<str:name>/measure/<str:kind>/", gear.measured, name="measured"),
    path("sites/", sites.sites, name="sites"),
    path("sites/new/", sites.edit, name="site-new"),
    path("sites/bring/", sites.bring, name="sites-bring"),
    *(
        path(f"sites/vinter-sites.{kind}", sites.carry, {"kind": kind}, name=f"sites-{kind}")
        for kind in sites.EXPORTS
    ),
    path("sites/map/lines.json", site_map.map_lines, name="map-lines"),
    path("sites/map/towns.json", site_map.map_towns, name="map-towns"),
    path("sites/map/point.json", site_map.map_point, name="map-point"),
    path("sites/map/glow.png", site_map.map_glow, name="map-glow"),
    path("sites/<int:pk>/", sites.edit, name="site"),
    path("sites/<int:pk>/delete/", sites.delete, name="site-delete"),
    path("sites/<int:pk>/darker/", sites.darker_places, name="darker"),
    path("sites/<int:pk>/readings/", sites.add_reading, name="site-reading"),
    path("sites/<int:pk>/lights/", sites.add_light, name="site-light"),
    path("sites/known/<str:kind>/<int:pk>/drop/", sites.drop_known, name="site-drop"),
    path("sites/<int:pk>/horizon/", horizons.horizon, name="horizon"),
    path("sites/<int:pk>/horizon/draw/", horizons.draw, name="horizon-draw"),
    path("sites/<int:pk>/horizon/bring/", horizons.bring, name="horizon-bring"),
    path("sites/<int:pk>/horizon.csv", horizons.carry, name="horizon-carry"),
    path("sites/<int:pk>/pictures/", horizons.add_picture, name="scout-add"),
    path("sites/pictures/<int:pk>.jpg", horizons.picture, name="scout-picture"),
    path("sites/pictures/<int:pk>/drop/", horizons.drop_picture, name="scout-drop"),
    path("sites/pictures/<int:pk>/trace/", horizons.trace, name="trace"),
    path("sites/<int:pk>/forecast/", forecasts.forecast, name="forecast"),
    path("sites/<int:pk>/forecast/panel/", forecasts.panel, name="forecast-panel"),
    path("sites/<int:pk>/forecast/refresh/", forecasts.refresh, name="forecast-refresh"),
    path("sites/<int:pk>/forecast/bring/", forecasts.bring, name="forecast-bring"),
    path("sites/<int:pk>/forecast.csv", forecasts.as_csv, name="forecast-csv"),
    path("habits/", nights.habits, name="habits"),
    path("season/best/", nights.best, name="best"),
    path("night/", nights.next_night, name="next-night"),
    path("season/", nights.first_season, name="first-season"),
    path("sites/<int:pk>/season/<int:year>/", nights.season_sheet, name="season"),
    path("sites/<int:pk>/season/<int:year>.png", nights.season_picture, name="season-picture"),
    path("sites/<int:pk>/season/minute.json", nights.season_minute, name="season-minute"),
    path("sites/<int:pk>/season/<int:year>.csv", nights.season_table, name="season-table"),
    path("sites/<int:pk>/season/<int:year>.ics", nights.season_calendar, name="season-calendar"),
    path("sites/<int:pk>/night/", nights.go_to_night, name="go-to-night"),
    path("sites/<int:pk>/night/<str:day>/", nights.night, name="night"),
    path("sites/<int:pk>/night/<str:day>/calendar.ics", nights.night_calendar, name="night-calendar"),
    path("sites/<int:pk>/night/<str:day>/hours/", nights.night_hours, name="night-hours"),
    path("sites/<int:pk>/night/<str:day>/plan/", nights.night_plan, name="night-plan"),
    path("skyline/", skylines.first_skyline, name="first-skyline"),
    path("sites/<int:pk>/skyline/", skylines.skyline, name="skyline"),
    path("sites/<int:pk>/skyline/scene.json", skylines.scene, name="skyline-scene"),
    path("sites/<int:pk>/skyline/sky.jpg", skylines.sky, name="skyline-sky"),
    path("sites/<int:pk>/stand/", stands.stand, name="stand"),
    path("sites/<int:pk>/stand.gpx", stands.stand_gpx, name="stand-gpx"),
    path("sites/<int:pk>/station/", stations.station, name="station"),
    path("sites/<int:pk>/station/bring/", stations.bring, name="station-bring"),
    path("shots/", shots.shots, name="shots"),
    path("sites/<int:pk>/shots/new/", shots.new, name="shot-new"),
    path("shots/<int:pk>/", shots.shot, name="shot"),
    path("shots/<int:pk>/delete/", shots.delete, name="shot-delete"),
    path("shots/<int:pk>/lesson/", shots.lesson, name="lesson"),
    path("field/", field.cards, name="cards"),
    path("field/worker.js", field.service_worker, name="field-worker"),
    path("field/manifest.json", field.manifest, name="field-manifest"),
    path("field/open/<str:ticket>/", field.card_open, name="card-open"),
    path("field/<int:pk>/", field.card, name="card"),
    path("field/<int:pk>/card.pdf", field.card_as_pdf, name="card-pdf"),
    path("field/<int:pk>/qr.svg", field.qr, name="card-qr"),
    path("field/<int:pk>/timer/", field.timer, name="timer"),
    path("field/<int:pk>/check/", field.check, name="check"),
    path("field/<int:pk>/pack/", field.pack, name="pack"),
    path("field/<int:pk>/pack/change/", field.pack_change, name="pack-change"),
    path("field/<int:pk>/card.html", field.card_file, name="card-file"),
    path("rehearse/", rehearse.ladder, name="rehearse"),
    path("rehearse/begin/<str:key>/", rehearse.begin, name="rehearse-begin"),
    path("shots/<int:pk>/rehearse/", rehearse.begin_shot, name="rehearse-shot"),
    path("rehearse/<int:pk>/", rehearse.rehearsal, name="rehearsal"),
    path("rehearse/<int:pk>/press/", rehearse.shoot, name="rehearse-press"),
    path("rehearse/<int:pk>/leave/", rehearse.leave, name="rehearse-leave"),
    path("rehearse/<int:pk>/picture.jpg", rehearse.picture, name="rehearse-picture"),
    path("rehearse/<int:pk>/loupe.jpg", rehearse.glass, name="rehearse-loupe"),
    path("takes/", takes.takes, name="takes"),
    path("takes/new/", takes.new_upload, name="take-upload"),
    path("shots/<int:pk>/shoot/", takes.shoot, name="shoot"),
    path("takes/<int:pk>/", takes.take, name="take"),
    path("takes/<int:pk>/upload/", takes.upload, name="upload"),
    path("takes/<int:pk>/film/", takes.film, name="film"),
    path("takes/<int:pk>/measure/", takes.measure, name="measure"),
    path("frames/<int:pk>/decide/", takes.decide, name="decide"),
    path("frames/<int:pk>/sort/", takes.sort, name="sort"),
    path("frames/<int:pk>/<str:size>.jpg", takes.look, name="look"),
    path("stacks/", stacks.stacks, name="stacks"),
    path("takes/<int:pk>/stack/", stacks.new, name="stack-new"),
    path("stacks/<int:pk>/", stacks.stack, name="stack"),
    path("stacks/<int:pk>/again/", stacks.again, name="stack-again"),
    path("compare/", comparing.compare, name="compare"),
    path("stacks/<int:pk>/otherwise/", stacks.otherwise, name="stack-otherwise"),
    path("stacks/<int:pk>/paint/", painting.paint, name="paint"),
    path("stacks/<int:pk>/paint/try/", painting.attempt, name="paint-try"),
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
