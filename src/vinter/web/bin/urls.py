"""Addresses of the bin."""

from django.urls import path

from vinter.web.bin import views

urlpatterns = [
    path("bin/put/<str:kind>/<int:pk>/", views.put, name="bin-put"),
    path("bin/several/<str:kind>/", views.put_several, name="bin-several"),
    path("bin/<int:pk>/back/", views.restore, name="bin-restore"),
    path("bin/<int:pk>/empty/", views.empty, name="bin-empty"),
]
