"""Addresses of the ledger."""

from django.urls import path

from vinter.web.ledger import views

urlpatterns = [
    path("ledger/", views.ledger, name="ledger"),
    path("sites/<int:pk>/ledger/<str:day>.html", views.night, name="ledger-night"),
    path("ledger/ledger.csv", views.ledger_csv, name="ledger-csv"),
    path("ledger/ledger.json", views.ledger_json, name="ledger-json"),
]
