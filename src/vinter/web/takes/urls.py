"""Addresses of the takes and their frames."""

from django.urls import path

from vinter.web.takes import doctor, shared, unplanned, views

urlpatterns = [
    path("takes/", views.takes, name="takes"),
    path("takes/doctor/", doctor.doctor, name="doctor"),
    path("takes/new/", views.new_upload, name="take-upload"),
    path("field/share/", shared.shared, name="share"),
    path("takes/<int:pk>/shot/", shared.of_shot, name="take-of"),
    path("shots/<int:pk>/shoot/", views.shoot, name="shoot"),
    path("takes/<int:pk>/", views.take, name="take"),
    path("takes/<int:pk>/upload/", views.upload, name="upload"),
    path("takes/<int:pk>/film/", views.film, name="film"),
    path("takes/<int:pk>/measure/", views.measure, name="measure"),
    path("takes/<int:pk>/origin/", unplanned.origin, name="take-origin"),
    path("takes/<int:pk>/focus/", views.focus, name="take-focus"),
    path("takes/<int:pk>/split/", unplanned.split, name="take-split"),
    path("takes/<int:pk>/left-out/delete/", views.delete_left_out, name="left-out-delete"),
    path("frames/<int:pk>/decide/", views.decide, name="decide"),
    path("frames/<int:pk>/type/", views.set_type, name="frame-type"),
    path("frames/<int:pk>/<str:size>.jpg", views.preview, name="preview"),
]
