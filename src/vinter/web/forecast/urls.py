"""Addresses of the forecast of a site."""

from django.urls import path

from vinter.web.forecast import views

urlpatterns = [
    path("sites/<int:pk>/forecast/", views.forecast, name="forecast"),
    path("sites/<int:pk>/forecast/panel/", views.panel, name="forecast-panel"),
    path("sites/<int:pk>/forecast/refresh/", views.refresh, name="forecast-refresh"),
    path("sites/<int:pk>/forecast/import/", views.import_forecast, name="forecast-import"),
    path("sites/<int:pk>/forecast.csv", views.export_forecast, name="forecast-export"),
]
