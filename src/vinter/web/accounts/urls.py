"""Addresses of signing in and out."""

from django.contrib.auth.views import LogoutView
from django.urls import path

from vinter.web.accounts import views

urlpatterns = [
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-out/", LogoutView.as_view(), name="sign-out"),
]
