"""Addresses of the sites, their map and their horizons."""

from django.urls import path

from vinter.web.sites import gazetteer, horizon, map, views

urlpatterns = [
    path("sites/", views.sites, name="sites"),
    path("sites/new/", views.edit, name="site-new"),
    path("sites/import/", views.import_sites, name="sites-import"),
    path("sites/import/chosen/", views.import_chosen, name="sites-import-chosen"),
    *(
        path(f"sites/vinter-sites.{kind}", views.export_sites, {"kind": kind}, name=f"sites-{kind}")
        for kind in views.EXPORTS
    ),
    path("sites/places/", gazetteer.search, name="places"),
    path("sites/map/zone.json", gazetteer.zone_place, name="map-zone"),
    path("sites/map/lines.json", map.map_lines, name="map-lines"),
    path("sites/map/towns.json", map.map_towns, name="map-towns"),
    path("sites/map/point.json", map.map_point, name="map-point"),
    path("sites/map/glow.png", map.map_glow, name="map-glow"),
    path("sites/<int:pk>/", views.edit, name="site"),
    path("sites/<int:pk>/darker/", views.darker_places, name="darker"),
    path("sites/<int:pk>/readings/", views.add_reading, name="site-reading"),
    path("sites/<int:pk>/lights/", views.add_light, name="site-light"),
    path("sites/<int:pk>/air/refuse/", views.refuse_air, name="site-air-refuse"),
    path("sites/known/<str:kind>/<int:pk>/delete/", views.delete_known, name="site-known-delete"),
    path("sites/<int:pk>/horizon/", horizon.horizon, name="horizon"),
    path("sites/<int:pk>/horizon/draw/", horizon.draw, name="horizon-draw"),
    path("sites/<int:pk>/horizon/import/", horizon.import_horizon, name="horizon-import"),
    path("sites/<int:pk>/horizon.csv", horizon.export_horizon, name="horizon-export"),
    path("sites/<int:pk>/pictures/", horizon.add_picture, name="scout-add"),
    path("sites/pictures/<int:pk>.jpg", horizon.picture, name="scout-picture"),
    path("sites/pictures/<int:pk>/delete/", horizon.delete_picture, name="scout-delete"),
    path("sites/pictures/<int:pk>/trace/", horizon.trace, name="trace"),
]
