using System.Security.Cryptography;
using System.Text;
using Vestige.Core.Treatments;

namespace Vestige.Tests.Conformance;

/// <summary>Keys of masks that are the same in every run.</summary>
public sealed class NamedKeys : IMaskKeys
{
    public byte[] Of(string name) => SHA256.HashData(Encoding.UTF8.GetBytes(name));
}
