namespace Vestige.Web.Guides;

/// <summary>The page of the guide that explains what one looks at.</summary>
public static class GuideLink
{
    /// <summary>The page for a view of a crossing or a connection.</summary>
    public static string OfView(string view) =>
        view switch
        {
            "tables" => "/guide/headline#fleet-and-crossings",
            "treatment" => "/guide/treatment",
            "events" or "history" => "/guide/history",
            "quarantine" => "/guide/quarantine",
            "reconcile" => "/guide/reconcile",
            "pace" => "/guide/pace",
            "definition" => "/guide/definition-files",
            "as-of" => "/guide/rewind",
            "schema" => "/guide/schema-changes",
            "dropped" => "/guide/stop#restore-dropped-tables",
            "stop" or "reload" or "remove" => "/guide/stop",
            _ => "/guide/lag",
        };
}
