namespace Vestige.Web.Guides;

/// <summary>Serves the pictures of the guide.</summary>
internal static class GuidePictures
{
    public static void Map(WebApplication app) =>
        app.MapGet(
                "/guide/screenshots/{name}",
                (string name) => GuideBook.Picture(name) is { } picture ? Results.Stream(picture, "image/png") : Results.NotFound()
            )
            .ExcludeFromDescription();
}
