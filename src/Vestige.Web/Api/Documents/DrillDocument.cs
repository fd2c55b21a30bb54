using Vestige.Engine.Ports;

namespace Vestige.Web.Api.Documents;

/// <summary>A fault that can be put into a stand-in or lifted: what it does, whether it is on, and what has to be given with it.</summary>
public sealed record DrillDocument(
    string Drill,
    string Says,
    bool On,
    bool Destructive,
    IReadOnlyDictionary<string, string> Values,
    IReadOnlyList<SettingFieldDocument> Fields
)
{
    public static DrillDocument Of(Drill drill)
    {
        ArgumentNullException.ThrowIfNull(drill);
        return new DrillDocument(
            Drill: drill.Name,
            Says: drill.Says.Length > 0 ? drill.Says : drill.Fields[0].Label,
            On: drill.IsOn,
            Destructive: drill.IsDestructive,
            Values: drill.Values,
            Fields: [.. drill.Fields.Select(SettingFieldDocument.Of)]
        );
    }
}
