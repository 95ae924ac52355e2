"""The address of the door to the demo."""

from django.urls import path

from vinter.web.demo import views

urlpatterns = [path("sign-in/demo/", views.enter_demo, name="enter-demo")]
