"""Addresses of the planning pages."""

from django.urls import path

from vinter.web.nights import views

urlpatterns = [
    path("preferences/", views.preferences, name="preferences"),
    path("season/best/", views.best, name="best"),
    path("night/", views.next_night, name="next-night"),
    path("season/", views.first_season, name="first-season"),
    path("sites/<int:pk>/season/<int:year>/", views.season_sheet, name="season"),
    path("sites/<int:pk>/almanac/<int:year>/", views.almanac_page, name="almanac"),
    path("sites/<int:pk>/season/<int:year>.png", views.season_picture, name="season-picture"),
    path("sites/<int:pk>/season/minute.json", views.season_minute, name="season-minute"),
    path("sites/<int:pk>/season/<int:year>.csv", views.season_table, name="season-table"),
    path("sites/<int:pk>/season/<int:year>.ics", views.season_calendar, name="season-calendar"),
    path("sites/<int:pk>/night/", views.go_to_night, name="go-to-night"),
    path("sites/<int:pk>/night/<str:day>/", views.night, name="night"),
    path("sites/<int:pk>/night/<str:day>/calendar.ics", views.night_calendar, name="night-calendar"),
    path("sites/<int:pk>/night/<str:day>/hours/", views.night_hours, name="night-hours"),
    path("sites/<int:pk>/night/<str:day>/plan/", views.night_plan, name="night-plan"),
]
