"""Addresses of signing in, up and out, and of one's account."""

from django.contrib.auth.views import LogoutView
from django.urls import path

from vinter.web.accounts import views

urlpatterns = [
    path("sign-in/", views.SignIn.as_view(), name="sign-in"),
    path("sign-up/", views.sign_up, name="sign-up"),
    path("sign-out/", LogoutView.as_view(next_page="/sign-in/?out=1"), name="sign-out"),
    path("account/", views.account, name="account"),
    path("account/password/", views.ChangePassword.as_view(), name="password"),
    path("account/figures/", views.figures, name="figures"),
    path("account/invite/", views.invite, name="invite"),
    path("account/hand-on/", views.hand_on, name="hand-on"),
    path("account/end/", views.end, name="account-end"),
]
