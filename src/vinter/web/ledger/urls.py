"""Addresses of the ledger."""

from django.urls import path

from vinter.web.ledger import views

urlpatterns = [
    path("ledger/", views.ledger, name="ledger"),
    path("ledger/ledger.csv", views.ledger_csv, name="ledger-csv"),
    path("ledger/ledger.json", views.ledger_json, name="ledger-json"),
]
