namespace Vestige.Web.Api;

/// <summary>Tables to load again, as schema.table; none means all.</summary>
/// <param name="Tables">The tables.</param>
/// <param name="InPlace">
/// Whether to refuse where rows would be deleted before others are loaded, or where the other tables would have to wait.
/// </param>
/// <param name="UndoHours">
/// For how many hours the present copies can be restored, 1 to 720; null to delete their rows. They are dropped and created again then,
/// which is never in place.
/// </param>
public sealed record ReloadBody(List<string>? Tables = null, bool InPlace = false, int? UndoHours = null);
