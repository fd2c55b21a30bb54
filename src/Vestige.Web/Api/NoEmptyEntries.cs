using System.Collections;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;

namespace Vestige.Web.Api;

/// <summary>
/// Refuses <c>null</c> as an entry of a list or as a value of a mapping: the serializer holds to what may be null for fields
/// only.
/// </summary>
internal static class NoEmptyEntries
{
    public static void Apply(JsonTypeInfo type)
    {
        if (type.Kind != JsonTypeInfoKind.Object)
        {
            return;
        }

        var lists = type
            .Properties.Where(property =>
                property.Get is not null
                && property.PropertyType != typeof(string)
                && typeof(IEnumerable).IsAssignableFrom(property.PropertyType)
            )
            .ToList();
        if (lists.Count == 0)
        {
            return;
        }

        var before = type.OnDeserialized;
        type.OnDeserialized = read =>
        {
            before?.Invoke(read);
            foreach (var list in lists)
            {
                Check(list.Name, list.Get!(read) as IEnumerable);
            }
        };
    }

    private static void Check(string name, IEnumerable? entries)
    {
        if (entries is IDictionary mapping)
        {
            foreach (DictionaryEntry entry in mapping)
            {
                if (entry.Value is null)
                {
                    throw new EmptyEntryException($"{name}.{entry.Key}");
                }
            }

            return;
        }

        var i = 0;
        foreach (var entry in entries ?? Array.Empty<object>())
        {
            if (entry is null)
            {
                throw new EmptyEntryException($"{name}[{i}]");
            }

            i++;
        }
    }
}
